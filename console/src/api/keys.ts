/**
 * The keys under which answers are kept. Each begins with its own name, by which whoever hears of a change asks for all
 * answers of a kind again.
 */
const key =
  <N extends string>(name: N) =>
  (...of: readonly unknown[]) =>
    [name, ...of] as const;

export const keys = {
  account: key("account"),
  accounts: key("accounts"),
  applications: key("applications"),
  below: key("below"),
  causes: key("causes"),
  change: key("change"),
  check: key("check"),
  comparison: key("comparison"),
  decide: key("decide"),
  drift: key("drift"),
  edition: key("edition"),
  editions: key("editions"),
  entries: key("entries"),
  explanation: key("explanation"),
  findings: key("findings"),
  findingsUnder: key("findingsUnder"),
  foreseen: key("foreseen"),
  fresh: key("fresh"),
  history: key("history"),
  holders: key("holders"),
  hooks: key("hooks"),
  hosts: key("hosts"),
  listing: key("listing"),
  matrix: key("matrix"),
  me: key("me"),
  mode: key("mode"),
  names: key("names"),
  new: key("new"),
  news: key("news"),
  originals: key("originals"),
  proposals: key("proposals"),
  overview: key("overview"),
  passkeys: key("passkeys"),
  people: key("people"),
  places: key("places"),
  plan: key("plan"),
  plans: key("plans"),
  preview: key("preview"),
  requests: key("requests"),
  results: key("results"),
  roster: key("roster"),
  run: key("run"),
  runs: key("runs"),
  schedules: key("schedules"),
  schema: key("schema"),
  search: key("search"),
  sessions: key("sessions"),
  sight: key("sight"),
  signingKeys: key("signingKeys"),
  snapshot: key("snapshot"),
  snapshots: key("snapshots"),
  steps: key("steps"),
  storage: key("storage"),
  strength: key("strength"),
  tokens: key("tokens"),
  trend: key("trend"),
  turnover: key("turnover"),
  waivers: key("waivers"),
  ways: key("ways"),
  weights: key("weights"),
};

/** What is kept: live.ts can name nothing else. */
export type Kept = keyof typeof keys;
