import { useSearchParams } from "react-router";
import type { Person } from "../../api/client";
import { Tabs } from "../../ui/Tabs";
import { Title } from "../../ui/Title";
import { Hosts } from "./Hosts";
import { Notices } from "./Notices";
import { Policy } from "./Policy";
import { People } from "./People";
import { Requests } from "./Requests";
import { Reviews } from "./Reviews";
import { Roster } from "./Roster";
import { Schedules } from "./Schedules";
import { Storage } from "./Storage";
import { Tokens } from "./Tokens";
import { You } from "./You";

/** Hosts, people, reviews and storage. */
export default function Settings({ me }: { me: Person }) {
  const [search, setSearch] = useSearchParams();
  return (
    <>
      <Title text="Settings" does="Look after hosts, people, schedules, notices and yourself." />
      <Tabs
        at={search.get("tab") ?? ""}
        go={(tab) => setSearch(tab ? { tab } : {}, { replace: true })}
        tabs={[
          { key: "", name: "Hosts", panel: <Hosts key={search.get("host")} me={me} only={search.get("host") ?? ""} /> },
          { key: "people", name: "People", panel: <People me={me} /> },
          { key: "policy", name: "Policy", panel: <Policy me={me} /> },
          { key: "schedules", name: "Schedules", panel: <Schedules me={me} /> },
          { key: "notices", name: "Notices", panel: <Notices me={me} /> },
          { key: "tokens", name: "Tokens", panel: <Tokens me={me} /> },
          { key: "you", name: "You", panel: <You me={me} /> },
          { key: "reviews", name: "Reviews", panel: <Reviews me={me} /> },
          { key: "requests", name: "Requests", panel: <Requests me={me} /> },
          { key: "roster", name: "Roster", panel: <Roster me={me} /> },
          { key: "storage", name: "Storage", panel: <Storage me={me} /> },
        ]}
      />
    </>
  );
}
