import { Box, Flex, Grid, Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { useFit } from "../api/queries";
import { none } from "../parts/format";
import { List } from "../parts/List";
import { Figure, Sheet, State } from "../parts/Page";
import { Shown } from "../parts/States";

type Fit = Schemas["Fit"];

const gb = (n?: number) => `${(n ?? 0).toFixed(1)} GB`;

/** Crews of a place of which the same is to be said, as one row. */
export function grouped(fits: Fit[]): (Fit & { crews: string[] })[] {
  const out: (Fit & { crews: string[] })[] = [];
  for (const f of fits) {
    const last = out[out.length - 1];
    if (
      last &&
      last.place === f.place &&
      last.why === f.why &&
      last.blocked === f.blocked &&
      last.without?.device === f.without?.device
    )
      last.crews.push(f.crew);
    else out.push({ ...f, crews: [f.crew] });
  }
  const rank = ["fits", "shares", "spills", "falls back", "does not fit"];
  return out.sort((a, b) => rank.indexOf(a.verdict) - rank.indexOf(b.verdict));
}

/** What is needed beside what there is, on one scale. */
function Bar({ fit, scale }: { fit: Fit; scale: number }) {
  const onCPU = !fit.limiting;
  const limit = onCPU ? fit.host_limit_gb : fit.limit_gb;
  const need = onCPU ? fit.host_need_gb : fit.need_gb;
  const short = need > limit && fit.verdict === "does not fit";
  return (
    <Box w="12rem">
      <Box position="relative" h="12px" aria-hidden>
        <Box position="absolute" inset="0" w={`${Math.min(100, (100 * limit) / scale)}%`} bg="waiting" rounded="sm" />
        <Box
          position="absolute"
          top="3px"
          bottom="3px"
          left="0"
          w={`${Math.min(100, (100 * need) / scale)}%`}
          bg={short ? "failed" : fit.tight ? "rendering" : "done"}
          rounded="sm"
        />
      </Box>
      <Text fontSize="sm" mt="0.5">
        {onCPU && fit.crew !== "cpu" ? "host: " : ""}
        {need.toFixed(1)} of {limit.toFixed(1)} GB
      </Text>
    </Box>
  );
}

function Fits({ fits, title, aside }: { fits: Fit[]; title: string; aside: string }) {
  const rows = grouped(fits);
  if (rows.length === 0) return null;
  const onCPU = !fits.some((f) => f.limiting);
  const scale = Math.max(
    ...fits.map((f) => (onCPU ? Math.max(f.host_limit_gb, f.host_need_gb) : Math.max(f.limit_gb, f.need_gb))),
  );
  return (
    <Sheet title={title} aside={aside}>
      <List
        label={title}
        rows={rows}
        keyOf={(f) => `${f.place}/${f.crews[0]}`}
        columns={[
          {
            name: "Crew",
            cell: (f) => (
              <Box whiteSpace="normal" w="19rem">
                <b>{f.place}</b> {f.crews.slice(0, 4).join(", ")}
                {f.crews.length > 4 && ` and ${f.crews.length - 4} more`}
                {(f.verdict !== "fits" || f.tight) && f.limiting && (
                  <Text fontSize="sm" color="fg.muted">
                    {f.why}
                  </Text>
                )}
              </Box>
            ),
          },
          {
            name: "Verdict",
            cell: (f) => (
              <Box whiteSpace="normal" maxW="15rem">
                <Flex gap="2" align="center">
                  <State>{f.verdict}</State>
                  {f.slowdown > 1 && <Text color="fg.muted">×{f.slowdown.toFixed(2)} slower</Text>}
                  {f.blocked && <State>blocked</State>}
                </Flex>
                {f.blocked && (
                  <Text fontSize="sm" color="fg.muted" mt="1">
                    {f.blocked}
                  </Text>
                )}
              </Box>
            ),
          },
          { name: onCPU ? "Host memory" : "Memory", cell: (f) => <Bar fit={f} scale={scale} /> },
          {
            name: "Head-room",
            cell: (f) => gb(f.limiting ? f.head_room_gb : f.host_limit_gb - f.host_need_gb),
            right: true,
          },
          ...(onCPU
            ? []
            : [
                {
                  name: "Limited by",
                  cell: (f: Fit) => (
                    <>
                      {f.limiting || "host memory"}
                      {f.without?.device && (
                        <Text fontSize="sm" color="fg.muted">
                          without it {gb(f.without.limit_gb)}: {f.without.verdict}
                        </Text>
                      )}
                    </>
                  ),
                },
              ]),
          { name: "Renderers", cell: (f) => ((f.renderers ?? 0) > 999 ? "many" : f.renderers), right: true },
        ]}
      />
    </Sheet>
  );
}

/** Whether the shot fits each crew, with the numbers. */
export function Memory({ shot }: { shot: string }) {
  const fit = useFit(shot);
  return (
    <Shown query={fit}>
      {(f) => {
        const homes = f.fits.filter((x) => x.verdict !== "does not fit" && !x.blocked);
        const places = [...new Set(homes.map((x) => x.place))];
        return (
          <Stack gap="6">
            <Grid templateColumns="repeat(auto-fit, minmax(220px, 1fr))" gap="6">
              <Figure
                label="It can be rendered on"
                value={
                  places.length === 0 ? "nothing" : places.length > 3 ? `${places.length} places` : places.join(", ")
                }
                beside={`${homes.length} of ${f.fits.length} crews`}
                alarm={places.length === 0}
              />
              <Figure
                label="Needs on each device"
                value={gb(f.need_gb)}
                beside={
                  f.at_least
                    ? `it ran out at ${gb(f.observed_gb)}; declared ${gb(f.declared_gb)}`
                    : f.observed_gb
                      ? `observed; declared ${gb(f.declared_gb)}`
                      : `declared, ${((f.buffers_gb ?? 0) * 1000).toFixed(0)} MB of it for the picture`
                }
              />
              <Figure label="Needs in the host" value={gb(f.host_gb)} beside="for each renderer" />
              <Figure
                label="Where it does not fit"
                value={f.permits?.[0] ?? none}
                beside={
                  f.permits && f.permits.length > 1 ? `then ${f.permits.slice(1).join(", ")}` : "permitted by the shot"
                }
              />
            </Grid>
            <Fits
              title="On GPUs"
              aside="A crew's limit is its smallest device."
              fits={f.fits.filter((x) => x.crew !== "cpu")}
            />
            <Fits
              title="On the CPU alone"
              aside="The scene lies in host memory."
              fits={f.fits.filter((x) => x.crew === "cpu")}
            />
          </Stack>
        );
      }}
    </Shown>
  );
}
