import { useSearchParams } from "react-router";
import type { Person } from "../api/client";
import { Tabs } from "../components/Tabs";
import { Title } from "../components/Title";
import { Hosts } from "./settings/Hosts";
import { Notices } from "./settings/Notices";
import { Policy } from "./settings/Policy";
import { People } from "./settings/People";
import { Reviews } from "./settings/Reviews";
import { Schedules } from "./settings/Schedules";
import { Storage } from "./settings/Storage";
import { Tokens } from "./settings/Tokens";
import { You } from "./settings/You";

/** Hosts, people, reviews and storage. */
export default function Settings({ me }: { me: Person }) {
  const [search, setSearch] = useSearchParams();
  return (
    <>
      <Title text="Settings" />
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
          { key: "storage", name: "Storage", panel: <Storage me={me} /> },
        ]}
      />
    </>
  );
}
