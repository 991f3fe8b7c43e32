import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Problem } from "./api/client";
import { useLiveUpdates } from "./api/events";
import { useSession } from "./api/queries";
import { Audit } from "./pages/Audit";
import { Host } from "./pages/Host";
import { Hosts } from "./pages/Hosts";
import { Notifications } from "./pages/Notifications";
import { Plan } from "./pages/Plan";
import { Plans } from "./pages/Plans";
import { Run } from "./pages/Run";
import { Runs } from "./pages/Runs";
import { Schedule } from "./pages/Schedule";
import { Shot } from "./pages/Shot";
import { Shots } from "./pages/Shots";
import { SignIn } from "./pages/SignIn";
import { Sources } from "./pages/Sources";
import { Storage } from "./pages/Storage";
import { Page } from "./parts/Page";
import { Shell } from "./parts/Shell";
import { Empty, Shown } from "./parts/States";
import { system } from "./theme";

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
            <Route path="hosts" element={<Hosts />} />
            <Route path="hosts/:name" element={<Host />} />
            <Route path="sources" element={<Sources />} />
            <Route path="shots" element={<Shots />} />
            <Route path="shots/:name" element={<Shot />} />
            <Route path="shots/:name/:view" element={<Shot />} />
            <Route path="plans" element={<Plans />} />
            <Route path="plans/:id" element={<Plan />} />
            <Route path="runs" element={<Runs />} />
            <Route path="runs/:id" element={<Run />} />
            <Route path="schedule" element={<Schedule />} />
            <Route path="notifications" element={<Notifications />} />
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
