import { Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { none } from "../parts/format";
import { Go } from "../parts/Go";
import { List } from "../parts/List";
import { Sheet } from "../parts/Page";

/** The passes that a shot is rendered in: each has pages of its own. */
export function Passes({ shot }: { shot: Schemas["Shot"] }) {
  const { name, launcher, passes = [] } = shot.spec;
  return (
    <Sheet title={`Rendered in ${passes.length} passes`} aside="A frame is done when that of all passes is.">
      <Stack gap="4">
        <List
          label={`Passes of ${name}`}
          rows={passes}
          keyOf={(p) => p.name}
          columns={[
            { name: "Pass", cell: (p) => <Go to={`/shots/${name}.${p.name}`}>{p.name}</Go> },
            { name: "Needs the frames of", cell: (p) => p.after?.join(", ") || none },
            { name: "Renderer", cell: (p) => p.launcher ?? launcher },
            { name: "Scene", cell: (p) => p.scene ?? shot.spec.scene },
            ...(passes.some((p) => p.files?.length)
              ? [{ name: "Beside each picture", cell: (p: Schemas["ShotPass"]) => p.files?.join(", ") || none }]
              : []),
            { name: "May run on", cell: (p) => (p.devices ?? shot.spec.devices)?.join(", ") || "any device" },
          ]}
        />
        <Text color="fg.muted" fontSize="sm">
          Crews, memory, preflight and settings stand on each pass's own page. A plan of {name} has all of them.
        </Text>
      </Stack>
    </Sheet>
  );
}
