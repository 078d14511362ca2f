import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from "@headlessui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { addressOf } from "./model";
import { useSearch } from "./queries";
import { useSettled } from "../ui/useSettled";

interface Choice {
  key: string;
  kind: string;
  name: string;
  detail: string;
  to: string;
}

/** One field that leads anywhere: to the pages, and to whatever the service finds. */
export function Palette({ pages, close }: { pages: readonly (readonly [string, string])[]; close: () => void }) {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const asked = useSettled(text, 120);
  const search = useSearch(asked);
  const small = text.trim().toLowerCase();
  const answered = asked === text && !search.isPlaceholderData;
  // Until the answer to what was typed comes, only those of the last answer that contain it are offered: Enter must
  // not open what nobody asked for.
  const found =
    small === ""
      ? []
      : (search.data?.items ?? []).filter(
          (h) => answered || [h.name, h.detail, h.subject].some((s) => s?.toLowerCase().includes(small)),
        );
  const choices: Choice[] = [
    ...pages
      .filter(([, name]) => name.toLowerCase().includes(small))
      .map(([to, name]) => ({ key: to, kind: "page", name, detail: "", to })),
    ...found.map((h, i) => ({
      key: `${h.kind}${h.subject}${h.host ?? ""}${i}`,
      kind: h.kind,
      name: h.name,
      detail: h.detail ?? "",
      to: addressOf(h),
    })),
  ];
  const go = (c: Choice | null) => {
    if (!c) return;
    close();
    void navigate(c.to);
  };
  return (
    <Dialog open onClose={close} className="relative z-30">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 flex items-start justify-center p-3 sm:pt-[12vh]">
        <DialogPanel
          className="w-full max-w-2xl rounded border border-ink bg-paper shadow-xl"
          aria-label="Find anything"
        >
          <Combobox<Choice | null> value={null} onChange={go}>
            <ComboboxInput
              autoFocus
              className="w-full bg-transparent px-4 py-3 text-lg outline-none placeholder:text-muted"
              placeholder="A host, path, account, plan, rule, page…"
              aria-label="Find a host, path, account, plan, rule or page"
              autoComplete="off"
              spellCheck={false}
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
            <ComboboxOptions static className="max-h-[60vh] overflow-y-auto border-t border-line py-1 empty:hidden">
              {choices.map((c) => (
                <ComboboxOption
                  key={c.key}
                  value={c}
                  className="grid cursor-pointer grid-cols-[6.5rem_minmax(0,1fr)] gap-x-3 px-4 py-1.5 data-focus:bg-ink data-focus:text-paper"
                >
                  <span className="text-sm opacity-75">{c.kind}</span>
                  <span className="min-w-0">
                    {c.kind === "path" ? <code>{c.name}</code> : c.name}
                    {c.detail ? <span className="block truncate text-sm opacity-75">{c.detail}</span> : null}
                  </span>
                </ComboboxOption>
              ))}
            </ComboboxOptions>
            <p className="border-t border-line px-4 py-2 text-sm text-muted" role="status">
              {search.error
                ? search.error.message
                : small !== "" && search.isFetching
                  ? "Looking…"
                  : small !== "" && choices.length === 0
                    ? "Nothing has that in its name."
                    : small !== "" && answered && search.data?.more?.length
                      ? `There may be more (${search.data.more.join(", ")}): type more of the name.`
                      : "A path from / on is looked for in the newest snapshots."}
            </p>
          </Combobox>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
