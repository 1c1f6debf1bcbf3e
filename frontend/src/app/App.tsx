import { lazy, Suspense, useEffect } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { useLine } from "../api/live";
import { staleNow } from "../api/mutate";
import { HouseStrip } from "../components/House";
import { Failed, Loading } from "../components/Quiet";
import { Toasts } from "../components/Toast";
import { Invited } from "../features/signin/Invited";
import { SignIn } from "../features/signin/SignIn";
import { Today } from "../features/today/Today";
import { Masthead } from "./Masthead";
import { useSession } from "./session";

const Workflows = lazy(() => import("../features/workflows/Workflows").then((m) => ({ default: m.Workflows })));
const Workbench = lazy(() => import("../features/bench/Workbench").then((m) => ({ default: m.Workbench })));
const Approvals = lazy(() => import("../features/approvals/Approvals").then((m) => ({ default: m.Approvals })));
const LeavePage = lazy(() => import("../features/forms/LeavePage").then((m) => ({ default: m.LeavePage })));
const JoinPage = lazy(() => import("../features/forms/JoinPage").then((m) => ({ default: m.JoinPage })));
const JoinYesPage = lazy(() => import("../features/forms/JoinPage").then((m) => ({ default: m.JoinYesPage })));
const Letter = lazy(() => import("../features/approvals/Letter").then((m) => ({ default: m.Letter })));
const FormPage = lazy(() => import("../features/forms/FormPage").then((m) => ({ default: m.FormPage })));
const Report = lazy(() => import("../features/brands/Report").then((m) => ({ default: m.Report })));
const Sheets = lazy(() => import("../features/sheets/Sheets").then((m) => ({ default: m.Sheets })));
const Runs = lazy(() => import("../features/runs/Runs").then((m) => ({ default: m.Runs })));
const RunPage = lazy(() => import("../features/runs/RunPage").then((m) => ({ default: m.RunPage })));
const Brands = lazy(() => import("../features/brands/Brands").then((m) => ({ default: m.Brands })));
const Account = lazy(() => import("../features/account/Account").then((m) => ({ default: m.Account })));
const Workers = lazy(() => import("../features/workers/Workers").then((m) => ({ default: m.Workers })));
const Kept = lazy(() => import("../features/kept/Kept").then((m) => ({ default: m.Kept })));
const Person = lazy(() => import("../features/person/Person").then((m) => ({ default: m.Person })));
const Trail = lazy(() => import("../features/trail/Trail").then((m) => ({ default: m.Trail })));
const Granted = lazy(() => import("../features/connections/Granted").then((m) => ({ default: m.Granted })));
const Calendar = lazy(() => import("../features/calendar/Calendar").then((m) => ({ default: m.Calendar })));
const Connections = lazy(() => import("../features/connections/Connections").then((m) => ({ default: m.Connections })));

/** The whole app: the page behind a signed link needs no account, everything else does. */
export function App() {
  return (
    <>
      <Suspense fallback={<Loading />}>
        <Routes>
          <Route path="/answer/:token" element={<Letter />} />
          <Route path="/form/:token" element={<FormPage />} />
          <Route path="/leave/:token" element={<LeavePage />} />
          <Route path="/join/:token" element={<JoinPage />} />
          <Route path="/join/:token/:answer" element={<JoinYesPage />} />
          <Route path="*" element={<House />} />
        </Routes>
      </Suspense>
      <Toasts />
    </>
  );
}

function House() {
  const session = useSession();
  const place = useLocation();
  const line = useLine(!!session.data?.signed_in);
  useEffect(() => {
    window.scrollTo(0, 0);
    if (place.pathname === "/") staleNow("today");
  }, [place.pathname]);
  if (session.isPending) return <Loading what="Opening Ulmus …" />;
  if (session.isError) return <Failed error={session.error} again={() => session.refetch()} />;
  if (!session.data.signed_in) return <SignIn session={session.data} />;
  if (new URLSearchParams(place.search).get("invited")) return <Invited session={session.data} />;
  return (
    <div className="flex min-h-screen flex-col">
      <Masthead session={session.data} line={line} />
      <HouseStrip />
      <Suspense fallback={<Loading />}>
        <Routes>
          <Route path="/" element={<Today />} />
          <Route path="/workflows" element={<Workflows />} />
          <Route path="/workflows/:id" element={<Workbench />} />
          <Route path="/approvals" element={<Approvals />} />
          <Route path="/approvals/:id" element={<Approvals />} />
          <Route path="/approvals/stacks/:workflow/:step" element={<Approvals />} />
          <Route path="/calendar" element={<Calendar />} />
          <Route path="/calendar/outbox" element={<Calendar />} />
          <Route path="/sheets" element={<Sheets />} />
          <Route path="/sheets/:key" element={<Sheets />} />
          <Route path="/runs" element={<Runs />} />
          <Route path="/runs/:id" element={<RunPage />} />
          <Route path="/report" element={<Report />} />
          <Route path="/brands" element={<Brands />} />
          <Route path="/brands/:key" element={<Brands />} />
          <Route path="/connections" element={<Connections />} />
          <Route path="/connections/granted" element={<Granted />} />
          <Route path="/account" element={<Account />} />
          <Route path="/trail" element={<Trail />} />
          <Route path="/kept" element={<Kept />} />
          <Route path="/workers" element={<Workers />} />
          <Route path="/person" element={<Person />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </Suspense>
    </div>
  );
}
