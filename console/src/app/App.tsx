import { lazy, Suspense, useState } from "react";
import { Route, Routes } from "react-router";
import { Problem } from "../api/client";
import { useMe } from "../api/queries";
import { Note } from "../ui/Note";
import { Title } from "../ui/Title";
import { Outside } from "./Outside";
import { Shell } from "./Shell";
import { SecondFirst } from "../features/signin/SecondFirst";
import { SignIn } from "../features/signin/Page";

const Overview = lazy(() => import("../features/overview/Page"));
const Drift = lazy(() => import("../features/drift/Page"));
const Baselines = lazy(() => import("../features/baselines/ListPage"));
const Baseline = lazy(() => import("../features/baselines/Page"));
const BaselineEdit = lazy(() => import("../features/baselines/EditPage"));
const Plans = lazy(() => import("../features/plans/ListPage"));
const PlanPage = lazy(() => import("../features/plans/Page"));
const Runs = lazy(() => import("../features/runs/ListPage"));
const RunPage = lazy(() => import("../features/runs/Page"));
const PutBack = lazy(() => import("../features/putback/Page"));
const Snapshots = lazy(() => import("../features/snapshots/Page"));
const Change = lazy(() => import("../features/change/Page"));
const Compare = lazy(() => import("../features/compare/Page"));
const Look = lazy(() => import("../features/look/Page"));
const History = lazy(() => import("../features/history/Page"));
const HostPage = lazy(() => import("../features/hosts/Page"));
const AccountPage = lazy(() => import("../features/accounts/Page"));
const Settings = lazy(() => import("../features/settings/Page"));
const Calculate = lazy(() => import("../features/calculate/Page"));

export function App() {
  const me = useMe();
  // Whoever sets up a second factor first sees what came of it, spare codes say, before anything else.
  const [first, setFirst] = useState(false);
  const out = me.error instanceof Problem && me.error.status === 401;
  if (first && out) setFirst(false);
  if (!first && !out && me.data?.wants_second) setFirst(true);
  if (me.isPending) return null;
  if (out) {
    return (
      <Suspense fallback={null}>
        <Routes>
          <Route
            path="calculate"
            element={
              <Outside>
                <Calculate />
              </Outside>
            }
          />
          <Route path="*" element={<SignIn />} />
        </Routes>
      </Suspense>
    );
  }
  if (!me.data)
    return (
      <div className="p-8">
        <Note error={me.error} />
      </div>
    );
  if (first) return <SecondFirst me={me.data} done={() => setFirst(false)} />;
  return (
    <Suspense fallback={null}>
      <Routes>
        <Route element={<Shell me={me.data} />}>
          <Route index element={<Overview />} />
          <Route path="drift/:application" element={<Drift me={me.data} />} />
          <Route path="baselines" element={<Baselines me={me.data} />} />
          <Route path="baselines/:application" element={<Baseline me={me.data} />} />
          <Route path="baselines/:application/edit" element={<BaselineEdit me={me.data} />} />
          <Route path="plans" element={<Plans />} />
          <Route path="plans/:id" element={<PlanPage me={me.data} />} />
          <Route path="runs" element={<Runs />} />
          <Route path="runs/:id" element={<RunPage me={me.data} />} />
          <Route path="put-back" element={<PutBack me={me.data} />} />
          <Route path="snapshots" element={<Snapshots me={me.data} />} />
          <Route path="change" element={<Change me={me.data} />} />
          <Route path="compare" element={<Compare />} />
          <Route path="look" element={<Look me={me.data} />} />
          <Route path="hosts/:name" element={<HostPage me={me.data} />} />
          <Route path="accounts/:name" element={<AccountPage />} />
          <Route path="history" element={<History />} />
          <Route path="settings" element={<Settings me={me.data} />} />
          <Route path="calculate" element={<Calculate />} />
          <Route
            path="*"
            element={<Title text="Nothing is here" does="There is nothing at this address. The links above lead on." />}
          />
        </Route>
      </Routes>
    </Suspense>
  );
}
