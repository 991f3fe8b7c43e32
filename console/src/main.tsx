import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Problem } from "./api/client";
import { useLiveUpdates } from "./api/events";
import { useSession } from "./api/queries";
import { type KindName, kinds } from "./forms/kinds";
import { SignIn } from "./pages/SignIn";
import { Page } from "./parts/Page";
import { Shell } from "./parts/Shell";
import { Empty, Shown } from "./parts/States";
import { system } from "./theme";

// Each page is a part of the program that is fetched when it is first opened.
const Access = lazy(() => import("./pages/Access").then((m) => ({ default: m.Access })));
const Audit = lazy(() => import("./pages/Audit").then((m) => ({ default: m.Audit })));
const Begin = lazy(() => import("./pages/Begin").then((m) => ({ default: m.Begin })));
const Edit = lazy(() => import("./pages/Edit").then((m) => ({ default: m.Edit })));
const Flipbook = lazy(() => import("./pages/Flipbook").then((m) => ({ default: m.Flipbook })));
const Host = lazy(() => import("./pages/Host").then((m) => ({ default: m.Host })));
const Hosts = lazy(() => import("./pages/Hosts").then((m) => ({ default: m.Hosts })));
const NewPlan = lazy(() => import("./pages/NewPlan").then((m) => ({ default: m.NewPlan })));
const Notifications = lazy(() => import("./pages/Notifications").then((m) => ({ default: m.Notifications })));
const Plan = lazy(() => import("./pages/Plan").then((m) => ({ default: m.Plan })));
const Plans = lazy(() => import("./pages/Plans").then((m) => ({ default: m.Plans })));
const Run = lazy(() => import("./pages/Run").then((m) => ({ default: m.Run })));
const Runs = lazy(() => import("./pages/Runs").then((m) => ({ default: m.Runs })));
const Schedule = lazy(() => import("./pages/Schedule").then((m) => ({ default: m.Schedule })));
const Shot = lazy(() => import("./pages/Shot").then((m) => ({ default: m.Shot })));
const Shots = lazy(() => import("./pages/Shots").then((m) => ({ default: m.Shots })));
const Sources = lazy(() => import("./pages/Sources").then((m) => ({ default: m.Sources })));
const Storage = lazy(() => import("./pages/Storage").then((m) => ({ default: m.Storage })));

const cache = new QueryClient({
  defaultOptions: {
    queries: {
      // A refusal is an answer; only what did not get through is asked again.
      retry: (times, error) => !(error instanceof Problem && error.document.status < 500) && times < 3,
      refetchOnWindowFocus: true,
    },
  },
});

function Console() {
  const session = useSession();
  useLiveUpdates(!!session.data);
  if (session.error instanceof Problem && session.error.document.status === 401) return <SignIn />;
  return (
    <Shown query={session}>
      {(s) => (
        <Routes>
          <Route element={<Shell session={s} />}>
            <Route index element={<Navigate to="/runs" replace />} />
            {(Object.keys(kinds) as KindName[]).flatMap((of) => [
              <Route key={`${of}/new`} path={`${of}/new`} element={<Edit key={of} of={of} />} />,
              <Route key={of} path={`${of}/:name/edit`} element={<Edit key={of} of={of} />} />,
            ])}
            <Route path="begin" element={<Begin />} />
            <Route path="hosts" element={<Hosts />} />
            <Route path="hosts/:name" element={<Host />} />
            <Route path="sources" element={<Sources />} />
            <Route path="shots" element={<Shots />} />
            <Route path="shots/:name" element={<Shot />} />
            <Route path="shots/:name/:view" element={<Shot />} />
            <Route path="plans/new" element={<NewPlan />} />
            <Route path="plans" element={<Plans />} />
            <Route path="plans/:id" element={<Plan />} />
            <Route path="runs" element={<Runs />} />
            <Route path="runs/:id" element={<Run />} />
            <Route path="runs/:id/flipbook/:shot" element={<Flipbook />} />
            <Route path="schedule" element={<Schedule />} />
            <Route path="notifications" element={<Notifications />} />
            <Route path="access" element={<Access />} />
            <Route path="audit" element={<Audit />} />
            <Route path="storage" element={<Storage />} />
            <Route
              path="*"
              element={
                <Page title="Nothing here">
                  <Empty title="There is no such page">The rail on the left leads to all there are.</Empty>
                </Page>
              }
            />
          </Route>
        </Routes>
      )}
    </Shown>
  );
}

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={cache}>
          <BrowserRouter>
            <Console />
          </BrowserRouter>
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
