import { useQuery } from "@tanstack/react-query";
import { readMap } from "../run/framemap";
import { answered, client, Problem, type Schemas } from "./client";
import { asked, framesWhileHearing } from "./events";

// Server state, keyed by what it shows. Live updates (events.ts) name the same keys.

async function pages<T>(next: (cursor?: string) => Promise<{ items: T[]; next?: string }>): Promise<T[]> {
  const all: T[] = [];
  let cursor: string | undefined;
  do {
    const page = await next(cursor);
    all.push(...page.items);
    cursor = page.next;
  } while (cursor);
  return all;
}

/** So many records of a long list are asked for at once. */
export const atOnce = 100;

/** The first so many hundreds of a list, and whether there are more. */
async function newest<T>(hundreds: number, next: (cursor?: string) => Promise<{ items: T[]; next?: string }>) {
  const items: T[] = [];
  let cursor: string | undefined;
  for (let n = 0; n === 0 || (cursor && n < hundreds); n++) {
    const page = await next(cursor);
    items.push(...page.items);
    cursor = page.next;
  }
  return { items, more: !!cursor };
}

export const useSession = () =>
  useQuery({
    queryKey: ["session"],
    queryFn: () => answered(client.GET("/session")),
    retry: false,
    staleTime: 60_000,
    refetchInterval: 60_000,
  });

export const useHosts = () =>
  useQuery({
    queryKey: ["hosts"],
    queryFn: () => pages((cursor) => answered(client.GET("/hosts", { params: { query: { cursor, limit: 500 } } }))),
    refetchInterval: asked(10_000),
  });

export const useOffers = () =>
  useQuery({
    queryKey: ["offers"],
    queryFn: () => pages((cursor) => answered(client.GET("/offers", { params: { query: { cursor, limit: 500 } } }))),
  });

export const useShots = () =>
  useQuery({
    queryKey: ["shots"],
    queryFn: () => pages((cursor) => answered(client.GET("/shots", { params: { query: { cursor, limit: 500 } } }))),
  });

export const useTrials = () =>
  useQuery({
    queryKey: ["trials"],
    queryFn: () => pages((cursor) => answered(client.GET("/trials", { params: { query: { cursor, limit: 500 } } }))),
  });

/** A shot's trials, the newest first. */
export const useShotTrials = (shot: string) =>
  useQuery({
    queryKey: ["trials", "of", shot],
    queryFn: async () => (await answered(client.GET("/trials", { params: { query: { shot, limit: 50 } } }))).items,
    enabled: shot !== "",
  });

/** The newest plans, so many hundreds of them, and whether there are more. */
export const usePlans = (hundreds = 1) =>
  useQuery({
    queryKey: ["plans", "newest", hundreds],
    queryFn: () =>
      newest(hundreds, (cursor) => answered(client.GET("/plans", { params: { query: { cursor, limit: atOnce } } }))),
    placeholderData: (before) => before,
  });

export const usePlan = (plan: string) =>
  useQuery({
    queryKey: ["plans", plan],
    queryFn: () => answered(client.GET("/plans/{plan}", { params: { path: { plan } } })),
    enabled: plan !== "",
  });

export const useForecast = (plan: string) =>
  useQuery({
    queryKey: ["forecast", plan],
    queryFn: () => answered(client.GET("/plans/{plan}/forecast", { params: { path: { plan } } })),
    staleTime: 60_000,
  });

export const useReasons = (plan: string, enabled: boolean) =>
  useQuery({
    queryKey: ["reasons", plan],
    queryFn: () => answered(client.GET("/plans/{plan}/reasons", { params: { path: { plan } } })),
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useChanges = (plan: string, since: string) =>
  useQuery({
    queryKey: ["changes", plan, since],
    queryFn: () => answered(client.GET("/plans/{plan}/changes", { params: { path: { plan }, query: { since } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** The newest runs, so many hundreds of them, and whether there are more. */
export const useRuns = (hundreds = 1) =>
  useQuery({
    queryKey: ["runs", "newest", hundreds],
    queryFn: () =>
      newest(hundreds, (cursor) => answered(client.GET("/runs", { params: { query: { cursor, limit: atOnce } } }))),
    placeholderData: (before) => before,
    refetchInterval: asked(5_000),
  });

/** Who is told when something ends, falls behind or waits. */
export const useReceivers = () =>
  useQuery({
    queryKey: ["receivers"],
    queryFn: async () => (await answered(client.GET("/receivers"))).items,
    refetchInterval: 15_000,
  });

/** What was told to whom, the newest first. */
export const useNotices = () =>
  useQuery({
    queryKey: ["receivers", "notices"],
    queryFn: async () => (await answered(client.GET("/notices", { params: { query: { limit: 50 } } }))).items,
    refetchInterval: 15_000,
  });

/** What is kept, for how long, and how much there is of it. */
export const useStorage = () =>
  useQuery({
    queryKey: ["storage"],
    queryFn: async () => (await answered(client.GET("/storage"))).items,
    refetchInterval: 60_000,
  });

/** Who did what, newest first; not asked by those who may not know. */
export const useAudit = (query: { text?: string; who?: string; about?: string; limit: number }, enabled: boolean) =>
  useQuery({
    queryKey: ["audit", query],
    queryFn: async () => (await answered(client.GET("/audit", { params: { query } }))).items,
    refetchInterval: asked(15_000),
    placeholderData: (before) => before,
    enabled,
  });

/** What waits for a person in all open runs. */
export const useWaiting = () =>
  useQuery({
    queryKey: ["runs", "waiting"],
    queryFn: async () => (await answered(client.GET("/waiting"))).items,
    refetchInterval: asked(15_000),
  });

/** What every crew still has to do in all open runs. */
export const useSchedule = () =>
  useQuery({
    queryKey: ["runs", "schedule"],
    queryFn: () => answered(client.GET("/schedule")),
    refetchInterval: asked(5_000),
  });

export const isOver = (run?: Schemas["Run"]) => !!run && run.state !== "running" && run.state !== "paused";

export const useRun = (run: string) =>
  useQuery({
    queryKey: ["runs", run],
    queryFn: () => answered(client.GET("/runs/{run}", { params: { path: { run } } })),
    // Money, pace and crews are not told of by events of single frames.
    refetchInterval: (q) => (isOver(q.state.data) ? false : asked(1_500)() > 1_500 ? 10_000 : 1_500),
  });

/** How every frame of a run is. Live updates keep it up. */
export const useFrameMap = (run: string) =>
  useQuery({
    queryKey: ["frames", run],
    queryFn: () =>
      framesWhileHearing(run, async () =>
        readMap(await answered(client.GET("/runs/{run}/frame-map", { params: { path: { run } } }))),
      ),
    staleTime: 30_000,
  });

export const useFrame = (run: string, shot: string, frame: number, state: string) =>
  useQuery({
    queryKey: ["frame", run, shot, frame, state],
    enabled: shot !== "",
    queryFn: () =>
      answered(client.GET("/runs/{run}/frames/{shot}/{frame}", { params: { path: { run, shot, frame } } })),
  });

/** Why a waiting frame is not being rendered, as things stand. */
export const useFrameWhy = (run: string, shot: string, frame: number, enabled: boolean) =>
  useQuery({
    queryKey: ["why", run, shot, frame],
    enabled,
    queryFn: () =>
      answered(client.GET("/runs/{run}/frames/{shot}/{frame}/why", { params: { path: { run, shot, frame } } })),
    refetchInterval: 5_000,
  });

export const useLedger = (run: string, live: boolean) =>
  useQuery({
    queryKey: ["ledger", run],
    queryFn: () => answered(client.GET("/runs/{run}/ledger", { params: { path: { run } } })),
    refetchInterval: live ? asked(3_000) : false,
  });

export const renderLogURL = (run: string, shot: string, frame: number, fence: number) =>
  `/api/v1/runs/${run}/frames/${shot}/${frame}/tries/${fence}/log`;

/** All that a renderer said in a try, which does not change. */
export const useRenderLog = (run: string, shot: string, frame: number, fence: number, enabled: boolean) =>
  useQuery({
    queryKey: ["render-log", run, shot, frame, fence],
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      answered(
        client.GET("/runs/{run}/frames/{shot}/{frame}/tries/{fence}/log", {
          params: { path: { run, shot, frame, fence } },
          parseAs: "text",
        }),
      ),
  });

/** How a picture is looked at; without any of it, its file is meant. */
export interface View {
  width?: number;
  layer?: string;
  exposure?: number;
}

/** Where a frame's picture is, or a file that it has beside it. */
export const pictureURL = (
  run: string,
  shot: string,
  frame: number,
  { file, ...view }: View & { file?: string } = {},
) => {
  const query = new URLSearchParams(
    Object.entries(view).flatMap(([name, value]) => (value === undefined ? [] : [[name, String(value)]])),
  ).toString();
  return `/api/v1/runs/${run}/frames/${shot}/${frame}/${file ? `files/${file}` : "picture"}${query && `?${query}`}`;
};

export const useShot = (shot: string) =>
  useQuery({
    queryKey: ["shots", shot],
    queryFn: () => answered(client.GET("/shots/{shot}", { params: { path: { shot } } })),
  });

export type Sort = "seconds" | "cost" | "efficiency" | "crew" | "whole";

export const useComparison = (shot: string, baseline: string, sort: Sort) =>
  useQuery({
    queryKey: ["comparison", shot, baseline, sort],
    queryFn: () =>
      answered(
        client.GET("/shots/{shot}/comparison", {
          params: { path: { shot }, query: { baseline: baseline || undefined, sort } },
        }),
      ),
    placeholderData: (old) => old,
    refetchInterval: 15_000,
  });

export const useFit = (shot: string) =>
  useQuery({
    queryKey: ["fit", shot],
    queryFn: () => answered(client.GET("/shots/{shot}/memory", { params: { path: { shot } } })),
    refetchInterval: 15_000,
  });

export const usePreflight = (shot: string) =>
  useQuery({
    queryKey: ["preflight", shot],
    queryFn: () => answered(client.GET("/shots/{shot}/preflight", { params: { path: { shot } } })),
    refetchInterval: 10_000,
  });

export const useStudies = (shot: string) =>
  useQuery({
    queryKey: ["studies", shot],
    queryFn: () => answered(client.GET("/settings-studies", { params: { query: { shot, limit: 50 } } })),
    refetchInterval: (q) => (q.state.data?.items.some((s) => !s.complete) ? 1_000 : 15_000),
  });

export const differenceURL = (study: string, a: number, b: number) =>
  `/api/v1/settings-studies/${study}/difference?a=${a}&b=${b}`;

export const useSweeps = (shot: string) =>
  useQuery({
    queryKey: ["sweeps", shot],
    queryFn: async () => {
      const page = await answered(client.GET("/sweeps", { params: { query: { limit: 50 } } }));
      return page.items.filter((s) => s.shot === shot);
    },
    refetchInterval: (q) => (q.state.data?.some((s) => s.state === "running") ? 1_500 : 15_000),
  });

export const useHost = (host: string) =>
  useQuery({
    queryKey: ["hosts", host],
    queryFn: () => answered(client.GET("/hosts/{host}", { params: { path: { host } } })),
  });

/** Why a host does nothing, or what it does, as things stand. */
export const useHostWhy = (host: string, enabled = true) =>
  useQuery({
    queryKey: ["why", host],
    enabled,
    queryFn: () => answered(client.GET("/hosts/{host}/why", { params: { path: { host } } })),
    refetchInterval: 5_000,
  });

export const useSamples = (host: string, minutes: number) =>
  useQuery({
    queryKey: ["samples", host, minutes],
    queryFn: () => answered(client.GET("/hosts/{host}/samples", { params: { path: { host }, query: { minutes } } })),
    refetchInterval: 3_000,
    placeholderData: (old) => old,
  });

export const useSources = () =>
  useQuery({ queryKey: ["sources"], queryFn: () => answered(client.GET("/sources")), refetchInterval: asked(5_000) });

export const useFarms = () => useQuery({ queryKey: ["farms"], queryFn: () => answered(client.GET("/farms")) });

export const useTokens = (may: boolean) =>
  useQuery({
    queryKey: ["tokens"],
    queryFn: () => pages((cursor) => answered(client.GET("/tokens", { params: { query: { cursor, limit: 500 } } }))),
    enabled: may,
  });

export const useSeats = () =>
  useQuery({
    queryKey: ["seats"],
    queryFn: () => answered(client.GET("/seats")),
    refetchInterval: asked(10_000),
  });

/** A shot's package; null: it has none. */
export const usePackage = (shot: string) =>
  useQuery({
    queryKey: ["package", shot],
    queryFn: () =>
      answered(client.GET("/shots/{shot}/package", { params: { path: { shot } } })).catch((error) => {
        if (error instanceof Problem && error.document.status === 404) return null;
        throw error;
      }),
  });

export const useLicences = () => useQuery({ queryKey: ["licences"], queryFn: () => answered(client.GET("/licences")) });

export const useRates = () => useQuery({ queryKey: ["rates"], queryFn: () => answered(client.GET("/exchange-rates")) });

export const useEntries = (run?: string, live = true) =>
  useQuery({
    queryKey: ["entries", run],
    queryFn: () => answered(client.GET("/entries", { params: { query: { run } } })),
    refetchInterval: live ? asked(5_000) : false,
  });

export const useSourceComparison = (shot: string, baseline: string) =>
  useQuery({
    queryKey: ["source comparison", shot, baseline],
    queryFn: () =>
      answered(
        client.GET("/shots/{shot}/sources", {
          params: { path: { shot }, query: { baseline: baseline || undefined } },
        }),
      ),
    placeholderData: (old) => old,
    staleTime: 30_000,
  });

export const useRunSources = (run: string, enabled: boolean) =>
  useQuery({
    queryKey: ["run sources", run],
    queryFn: () => answered(client.GET("/runs/{run}/sources", { params: { path: { run } } })),
    enabled,
    refetchInterval: asked(10_000),
  });

/** How a run was planned anew, and what is proposed, newest first. */
export const useScheduleChanges = (run: string, live: boolean) =>
  useQuery({
    queryKey: ["runs", run, "changes"],
    queryFn: async () => (await answered(client.GET("/runs/{run}/changes", { params: { path: { run } } }))).items,
    refetchInterval: live ? asked(10_000) : false,
  });

/** Local test frames of a shot that have a picture. */
export const useTrialPictures = (shot: string) =>
  useQuery({
    queryKey: ["trials", "pictures", shot],
    queryFn: async () => {
      const page = await answered(client.GET("/trials", { params: { query: { shot, limit: 20 } } }));
      const seen = new Set<number>();
      return page.items.flatMap((t) => {
        const f = t.frames.find((x) => x.state === "done" && !seen.has(x.frame));
        if (!f) return [];
        seen.add(f.frame); // each of another frame, as far as there are some
        return [{ run: t.id, host: t.host, frame: f.frame }];
      });
    },
    staleTime: 60_000,
  });

/** What carrying a plan out would do to open runs that are less urgent. */
export const usePlanEffects = (plan: string) =>
  useQuery({
    queryKey: ["effects", plan],
    queryFn: () => answered(client.GET("/plans/{plan}/effects", { params: { path: { plan } } })),
    staleTime: 60_000,
  });
