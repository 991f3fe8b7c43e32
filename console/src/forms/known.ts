import type { UiSchema } from "@rjsf/utils";
import { useHosts, useLicences, useSources } from "../api/queries";

/** What others have said before, to be chosen from. */
export function useKnown(): UiSchema {
  const hosts = useHosts().data ?? [];
  const sources = useSources().data?.items ?? [];
  const pools = useLicences().data?.items ?? [];
  const some = (names: (string | undefined)[]) => ({
    "ui:suggest": [...new Set(names.filter((n): n is string => !!n))].sort(),
  });
  const launchers = some(hosts.flatMap((h) => h.launchers ?? []));
  return {
    source: some([...hosts.filter((h) => !h.server).map((h) => h.spec.source), ...sources.map((s) => s.spec.name)]),
    launcher: launchers,
    licence: some(pools.map((l) => l.pool)),
    backend: some(hosts.flatMap((h) => (h.spec.devices ?? []).flatMap((d) => d.backends ?? []))),
  };
}
