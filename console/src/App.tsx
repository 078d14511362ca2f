import { lazy, Suspense, useState } from "react";
import { Route, Routes } from "react-router";
import { Problem } from "./api/client";
import { useMe } from "./api/queries";
import { Note } from "./components/Note";
import { Outside } from "./components/Outside";
import { Shell } from "./components/Shell";
import { SecondFirst } from "./pages/SecondFirst";
import { SignIn } from "./pages/SignIn";

const Overview = lazy(() => import("./pages/Overview"));
const Drift = lazy(() => import("./pages/Drift"));
const Baselines = lazy(() => import("./pages/Baselines"));
const Baseline = lazy(() => import("./pages/Baseline"));
const BaselineEdit = lazy(() => import("./pages/BaselineEdit"));
const Plans = lazy(() => import("./pages/Plans"));
const PlanPage = lazy(() => import("./pages/Plan"));
const Runs = lazy(() => import("./pages/Runs"));
const RunPage = lazy(() => import("./pages/Run"));
const PutBack = lazy(() => import("./pages/PutBack"));
const Snapshots = lazy(() => import("./pages/Snapshots"));
const Look = lazy(() => import("./pages/Look"));
const History = lazy(() => import("./pages/History"));
const HostPage = lazy(() => import("./pages/Host"));
const AccountPage = lazy(() => import("./pages/Account"));
const Settings = lazy(() => import("./pages/Settings"));
const Calculate = lazy(() => import("./pages/Calculate"));

export function App() {
  const me = useMe();
  // Whoever sets up a second factor first sees what came of it, codes to spare say, before anything else.
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
          <Route path="look" element={<Look me={me.data} />} />
          <Route path="hosts/:name" element={<HostPage me={me.data} />} />
          <Route path="accounts/:name" element={<AccountPage />} />
          <Route path="history" element={<History />} />
          <Route path="settings" element={<Settings me={me.data} />} />
          <Route path="calculate" element={<Calculate />} />
          <Route path="*" element={<Note>There is nothing at this address. The links above lead on.</Note>} />
        </Route>
      </Routes>
    </Suspense>
  );
}
