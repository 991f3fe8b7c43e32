import { Tabs } from "@chakra-ui/react";
import { useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { isOver, useEntries, useRunSources } from "../api/queries";
import { Shown } from "../parts/States";
import { TabList } from "../parts/TabList";
import { SourceTable } from "../shot/Sources";
import { Account } from "./Account";
import { Entries } from "./Entries";

const views = [
  { value: "crew", label: "Money by crew" },
  { value: "entry", label: "by entry" },
  { value: "source", label: "by source" },
];

/** What a run cost, looked at in one of three ways; which, is in the page's address. */
export function Ledger({ run }: { run: Schemas["Run"] }) {
  const [params, setParams] = useSearchParams();
  const over = isOver(run);
  const entries = useEntries(run.id, !over);
  const sources = useRunSources(run.id, over);
  return (
    <Tabs.Root
      value={params.get("money") ?? "crew"}
      onValueChange={(e) =>
        setParams(
          (old) => {
            old.set("money", e.value);
            return old;
          },
          { replace: true, preventScrollReset: true },
        )
      }
      lazyMount
      unmountOnExit
    >
      {/* What each source came to is summed up in the end. */}
      <TabList views={over ? views : views.filter((v) => v.value !== "source")} />
      <Tabs.Content value="crew" pt="0">
        <Account run={run.id} live={!over} />
      </Tabs.Content>
      <Tabs.Content value="entry" pt="0">
        <Shown query={entries}>{(list) => <Entries title="Ledger by entry" list={list} />}</Shown>
      </Tabs.Content>
      <Tabs.Content value="source" pt="0">
        <Shown query={sources}>
          {(x) => <SourceTable title="Sources, estimated and charged" aside="each did a part of the work" x={x} />}
        </Shown>
      </Tabs.Content>
    </Tabs.Root>
  );
}
