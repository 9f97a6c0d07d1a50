import { Suspense, lazy } from "react";
import { NavLink, Navigate, Route, Routes } from "react-router-dom";
import { StatusProvider, useLive } from "./api/status";
import { OverviewPage } from "./pages/overview/OverviewPage";
import { Logo } from "./parts/Logo";
import { SignOut } from "./parts/SignOut";
import { StateMark } from "./parts/StateMark";
import { ThemeSwitch } from "./parts/ThemeSwitch";
import { TokenGate } from "./parts/TokenGate";

// Each page is fetched when it is first opened.
const SourcesPage = lazy(() => import("./pages/sources/SourcesPage").then((m) => ({ default: m.SourcesPage })));
const NewSourcePage = lazy(() => import("./pages/sources/NewSourcePage").then((m) => ({ default: m.NewSourcePage })));
const SourcePage = lazy(() => import("./pages/sources/SourcePage").then((m) => ({ default: m.SourcePage })));
const OutletsPage = lazy(() => import("./pages/outlets/OutletsPage").then((m) => ({ default: m.OutletsPage })));
const NewOutletPage = lazy(() => import("./pages/outlets/NewOutletPage").then((m) => ({ default: m.NewOutletPage })));
const OutletPage = lazy(() => import("./pages/outlets/OutletPage").then((m) => ({ default: m.OutletPage })));
const HistoryPage = lazy(() => import("./pages/changes/HistoryPage").then((m) => ({ default: m.HistoryPage })));
const ChangesPage = lazy(() => import("./pages/changes/ChangesPage").then((m) => ({ default: m.ChangesPage })));

export function App() {
  return (
    <TokenGate>
      <StatusProvider>
        <a className="visually-hidden-focusable skip" href="#page">
          Skip to the page
        </a>
        <TopBar />
        <main id="page" className="page">
          <Suspense fallback={<p className="none">Loading …</p>}>
            <Routes>
              <Route path="/" element={<OverviewPage />} />
              <Route path="/sources" element={<SourcesPage />} />
              <Route path="/sources/new" element={<NewSourcePage />} />
              <Route path="/sources/:name/tables/:table/history" element={<HistoryPage />} />
              <Route path="/sources/:name/:tab?" element={<SourcePage />} />
              <Route path="/outlets" element={<OutletsPage />} />
              <Route path="/outlets/new" element={<NewOutletPage />} />
              <Route path="/outlets/:name/:tab?" element={<OutletPage />} />
              <Route path="/changes" element={<ChangesPage />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Routes>
          </Suspense>
        </main>
      </StatusProvider>
    </TokenGate>
  );
}

function TopBar() {
  const lost = useLive((live) => live.lost);
  const database = useLive((live) => live.status?.state_database.ok);
  return (
    <header className="top-bar">
      <NavLink to="/" className="brand" aria-label="Rillmark, to the overview">
        <Logo />
        <span>Rillmark</span>
      </NavLink>
      <nav aria-label="Pages">
        <NavLink to="/" end>
          Overview
        </NavLink>
        <NavLink to="/sources">Sources</NavLink>
        <NavLink to="/outlets">Outlets</NavLink>
        <NavLink to="/changes">Changes</NavLink>
      </nav>
      <div className="top-state" role="status">
        {lost && <StateMark state="failed" word="service does not answer" />}
        {!lost && database === false && <StateMark state="failed" word="state database away" />}
        {!lost && database && <StateMark state="running" word="live" />}
      </div>
      <SignOut />
      <ThemeSwitch />
    </header>
  );
}
