import { Box, Tabs } from "@chakra-ui/react";
import { useNavigate, useParams } from "react-router";
import type { Schemas } from "../api/client";
import { useShot } from "../api/queries";
import { Change } from "../forms/Make";
import { moment } from "../parts/format";
import { Page } from "../parts/Page";
import { DoneTo } from "../parts/Records";
import { Shown } from "../parts/States";
import { TabList } from "../parts/TabList";
import { Compare } from "../shot/Compare";
import { Memory } from "../shot/Memory";
import { Package } from "../shot/Package";
import { Passes } from "../shot/Passes";
import { Preflight } from "../shot/Preflight";
import { Studies } from "../shot/Settings";
import { SourcesOf } from "../shot/Sources";

const views = [
  { value: "compare", label: "Crews compared" },
  { value: "memory", label: "Memory" },
  { value: "preflight", label: "Preflight" },
  { value: "settings", label: "Settings" },
  { value: "sources", label: "Sources" },
  { value: "package", label: "Package" },
];

/** What renders a shot: a launcher, or several, in passes. */
export const rendererOf = ({ spec }: Schemas["Shot"]) =>
  spec.passes?.length ? `${spec.passes.length} passes` : spec.launcher;

/** What is known of one shot: how crews do, whether it fits, what would stop it. */
export function Shot() {
  const { name = "", view = "compare" } = useParams();
  const go = useNavigate();
  const shot = useShot(name);
  return (
    <Page
      title={shot.data?.spec.title ? `${name}, ${shot.data.spec.title}` : name}
      lead={
        shot.data &&
        `${shot.data.frame_count} frames, ${shot.data.spec.width} × ${shot.data.spec.height} px, ${rendererOf(shot.data)}; deadline ${moment(shot.data.spec.deadline)}`
      }
      actions={shot.data && !shot.data.pass_of && <Change of="shots" name={name} />}
    >
      <Shown query={shot}>
        {(s) =>
          s.spec.passes?.length ? (
            <Passes shot={s} />
          ) : (
            <Tabs.Root value={view} onValueChange={(e) => go(`/shots/${name}/${e.value}`)} lazyMount unmountOnExit>
              <TabList views={views} />
              <Tabs.Content value="compare" pt="0">
                <Compare shot={s} />
              </Tabs.Content>
              <Tabs.Content value="memory" pt="0">
                <Memory shot={name} />
              </Tabs.Content>
              <Tabs.Content value="preflight" pt="0">
                <Preflight shot={name} />
              </Tabs.Content>
              <Tabs.Content value="sources" pt="0">
                <SourcesOf shot={name} />
              </Tabs.Content>
              <Tabs.Content value="package" pt="0">
                <Package shot={s} />
              </Tabs.Content>
              <Tabs.Content value="settings" pt="0">
                <Studies shot={s} />
              </Tabs.Content>
            </Tabs.Root>
          )
        }
      </Shown>
      <Box mt="6">
        <DoneTo about={`/shots/${name}`} />
      </Box>
    </Page>
  );
}
