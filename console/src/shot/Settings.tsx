import { Box, Button, Flex, Grid, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client, newKey, type Schemas } from "../api/client";
import { differenceURL, pictureURL, useHosts, useStudies } from "../api/queries";
import { Choice } from "../parts/Choice";
import { length, moment, none } from "../parts/format";
import { List } from "../parts/List";
import { Sheet, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty, Failed, Shown } from "../parts/States";
import { Overlay } from "./Overlay";

type Study = Schemas["Study"];
type Variant = Schemas["StudyVariant"];

/** Reads NAME=VALUE, NAME=VALUE; nothing is the shot as it is. */
export function settingsOf(text: string): Record<string, string> | undefined {
  const out: Record<string, string> = {};
  for (const pair of text.split(",")) {
    if (pair.trim() === "") continue;
    const [name, value] = pair.split("=").map((s) => s.trim());
    if (!name || value === undefined) return undefined;
    out[name] = value;
  }
  return out;
}

function NewStudy({ shot }: { shot: Schemas["Shot"] }) {
  const cache = useQueryClient();
  const hosts = (useHosts().data ?? []).filter(
    (h) => h.agent === "up" && !h.server && h.launchers?.includes(shot.spec.launcher),
  );
  const [place, setPlace] = useState("");
  const [texts, setTexts] = useState(["", ""]);
  const variants = texts.map(settingsOf);
  const begin = useMutation({
    mutationFn: () => {
      const [host = "", crew = ""] = place.split("/");
      return answered(
        client.POST("/settings-studies", {
          params: { header: { "Idempotency-Key": newKey() } },
          body: {
            shot: shot.spec.name,
            host,
            crew,
            variants: variants.map((settings) => ({ settings: settings ?? {} })),
          },
        }),
      );
    },
    onSuccess: () => cache.invalidateQueries({ queryKey: ["studies", shot.spec.name] }),
  });
  const cpuOnly = hosts.some((h) => h.renderers?.some((r) => r.launcher === shot.spec.launcher && r.cpu_only));
  const places = hosts.flatMap((h) =>
    h.crews.filter((c) => !cpuOnly || c.id === "cpu").map((c) => `${h.spec.name}/${c.id}`),
  );
  return (
    <Sheet title="Lay other settings beside each other" aside="The shot's middle frame is rendered once with each.">
      <Flex gap="4" align="flex-end" wrap="wrap">
        <Choice label="Crew" value={place} options={[{ value: "", text: "choose…" }, ...places]} onChange={setPlace} />
        {texts.map((text, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: variants have no name but their place
          <Box key={i}>
            <Text fontSize="sm" color="fg.muted" mb="1.5">
              Variant {i + 1}
            </Text>
            <Input
              aria-label={`Settings of variant ${i + 1}`}
              w="15rem"
              h="9"
              borderColor={variants[i] ? "line" : "failed"}
              placeholder={i === 0 ? "as the shot has it" : "antialias=0.05"}
              value={text}
              onChange={(e) => setTexts(texts.map((t, k) => (k === i ? e.target.value : t)))}
            />
          </Box>
        ))}
        {texts.length < 5 && (
          <Button size="sm" variant="ghost" onClick={() => setTexts([...texts, ""])}>
            One more
          </Button>
        )}
        <Button
          size="sm"
          variant="outline"
          disabled={!place || variants.some((v) => !v)}
          loading={begin.isPending}
          onClick={() => begin.mutate()}
        >
          Render them
        </Button>
      </Flex>
      {begin.error && (
        <Box mt="3">
          <Failed error={begin.error} />
        </Box>
      )}
    </Sheet>
  );
}

function distance(v: Variant, part: (d: Schemas["Distance"]) => string) {
  if (!v.distance) return none;
  return v.distance.same ? "same" : part(v.distance);
}

function Beside({ study }: { study: Study }) {
  const done = study.variants.map((v, i) => ({ ...v, i })).filter((v) => v.state === "complete");
  const [a, setA] = useState(0);
  const [b, setB] = useState(done.length > 1 ? (done[1]?.i ?? 1) : 1);
  const [view, setView] = useState<"overlay" | "difference">("overlay");
  const pick = (i: number) => study.variants[i];
  const url = (i: number) => pictureURL(pick(i)?.run ?? "", study.shot, study.frame, { exposure: 0 });
  const options = done.map((v) => ({ value: String(v.i), text: v.name }));
  const ready = done.some((v) => v.i === a) && done.some((v) => v.i === b);
  return (
    <Sheet
      title={`Frame ${study.frame} on ${study.host}/${study.crew}`}
      aside={
        <Flex gap="4">
          <Choice label="Left" value={String(a)} options={options} onChange={(v) => setA(Number(v))} />
          <Choice label="Right" value={String(b)} options={options} onChange={(v) => setB(Number(v))} />
          <Choice
            label="Shown"
            value={view}
            options={[
              { value: "overlay", text: "both, with an edge" },
              { value: "difference", text: "their difference" },
            ]}
            onChange={setView}
          />
        </Flex>
      }
    >
      <Grid templateColumns={{ base: "1fr", "2xl": "3fr 2fr" }} gap="6" alignItems="start">
        {!ready ? (
          <Text color="fg.muted">Two of them have to be rendered first.</Text>
        ) : view === "overlay" ? (
          <Overlay a={url(a)} b={url(b)} nameA={pick(a)?.name ?? ""} nameB={pick(b)?.name ?? ""} />
        ) : (
          <Box>
            <Box bg="ink.950" rounded="md" overflow="hidden">
              <img
                src={differenceURL(study.id, a, b)}
                alt={`Difference of ${pick(a)?.name} and ${pick(b)?.name}`}
                style={{ width: "100%" }}
              />
            </Box>
            <Text fontSize="sm" color="fg.muted" mt="2">
              Grey: equal. Warm: the right one is lighter; cool: darker. The largest difference is at full strength.
            </Text>
          </Box>
        )}
        <Box order={{ base: -1, "2xl": 0 }} minW="0">
          <List
            label="Variants"
            rows={study.variants.map((v, i) => ({ ...v, i }))}
            keyOf={(v) => v.run}
            columns={[
              { name: "Variant", cell: (v) => v.name },
              {
                name: "A frame",
                cell: (v) => (v.state === "complete" ? length(v.seconds) : <State>{v.cause || v.state}</State>),
                right: true,
              },
              { name: "Whole shot", cell: (v) => length(v.whole_s), right: true },
              { name: "RMSE", cell: (v) => distance(v, (d) => d.rmse.toFixed(4)), right: true },
              { name: "PSNR", cell: (v) => distance(v, (d) => `${d.psnr_db.toFixed(1)} dB`), right: true },
              { name: "SSIM", cell: (v) => distance(v, (d) => d.ssim.toFixed(4)), right: true },
            ]}
          />
        </Box>
      </Grid>
      <Text fontSize="sm" color="fg.muted" mt="3">
        Distances are from the first variant. The whole shot is as if every frame were like this one.
      </Text>
    </Sheet>
  );
}

/** Settings of one frame beside each other. */
export function Studies({ shot }: { shot: Schemas["Shot"] }) {
  const studies = useStudies(shot.spec.name);
  const mayWrite = useMayWrite();
  const [shown, setShown] = useState("");
  return (
    <Stack gap="6">
      <Shown query={studies}>
        {({ items }) => {
          const study = items.find((s) => s.id === shown) ?? items[0];
          if (!study)
            return (
              <Empty
                title="No settings were laid beside each other yet"
                command={`rotanex settings run ${shot.spec.name} --crew HOST/CREW --variant own --variant NAME=VALUE`}
              >
                A coarser threshold can cut the time by four. Whether that is acceptable is seen here.
              </Empty>
            );
          return (
            <Stack gap="4">
              {items.length > 1 && (
                <Flex>
                  <Choice
                    label="Study"
                    value={study.id}
                    options={items.map((s) => ({
                      value: s.id,
                      text: `${moment(s.created)}: ${s.variants.map((v) => v.name).join(", ")}`,
                    }))}
                    onChange={setShown}
                  />
                </Flex>
              )}
              <Beside key={study.id + study.complete} study={study} />
            </Stack>
          );
        }}
      </Shown>
      {mayWrite && <NewStudy shot={shot} />}
    </Stack>
  );
}
