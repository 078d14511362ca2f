import { useState } from "react";
import type { Schemas } from "../../api/client";
import { pictureOf } from "../../shared/picture";
import { told } from "./model";

/** Takes what there is to say of a path along: as text for a ticket, or as a picture. */
export function Copies({ sight }: { sight: Schemas["Sight"] }) {
  const [did, setDid] = useState("");
  const lines = () => told(sight, window.location.href, new Date());
  const text = () =>
    lines()
      .map((l) => l.text)
      .join("\n");
  const put = (what: string, make: () => Promise<void>) => {
    make().then(
      () => setDid(`${what} is in the clipboard.`),
      (e: unknown) => setDid(`It could not be copied: ${e instanceof Error ? e.message : String(e)}`),
    );
  };
  const look = "cursor-pointer underline decoration-line underline-offset-3 hover:decoration-current";
  return (
    <span className="flex flex-wrap items-center gap-x-3">
      <button
        type="button"
        className={look}
        onClick={() => put("The text", () => navigator.clipboard.writeText(text()))}
      >
        Copy as text
      </button>
      <button
        type="button"
        className={look}
        onClick={() =>
          put("The picture", () =>
            navigator.clipboard.write([new ClipboardItem({ "image/png": pictureOf(lines(), sight.access?.mode) })]),
          )
        }
      >
        Copy as a picture
      </button>
      <span role="status" className="text-muted">
        {did}
      </span>
    </span>
  );
}
