import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import type { ReactNode } from "react";

export interface TabOf {
  key: string;
  name: string;
  panel: ReactNode;
}

/** Several views of one thing; which one is shown is the address's matter. The first has the empty key. */
export function Tabs({ tabs, at, go }: { tabs: readonly TabOf[]; at: string; go: (key: string) => void }) {
  return (
    <TabGroup
      selectedIndex={Math.max(
        tabs.findIndex((t) => t.key === at),
        0,
      )}
      onChange={(i) => go(tabs[i]!.key)}
    >
      <TabList className="flex flex-wrap gap-1 border-b border-ink">
        {tabs.map((t) => (
          <Tab
            key={t.key}
            className="cursor-pointer rounded-t border border-b-0 border-transparent px-3 py-1.5 data-selected:border-ink data-selected:bg-sheet data-selected:font-semibold hover:bg-sheet"
          >
            {t.name}
          </Tab>
        ))}
      </TabList>
      <TabPanels className="pt-3">
        {tabs.map((t) => (
          <TabPanel key={t.key}>{t.panel}</TabPanel>
        ))}
      </TabPanels>
    </TabGroup>
  );
}
