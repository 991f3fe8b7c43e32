import { Box, Button, Flex, Grid, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answered, client, type Schemas } from "../api/client";
import { useHosts, useOffers, useSchedule } from "../api/queries";
import { Make } from "../forms/Make";
import { DeskLine, DeskState } from "../parts/DeskLine";
import { count, length, money, timeOfDay } from "../parts/format";
import { Go } from "../parts/Go";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty, Shown } from "../parts/States";

type Host = Schemas["Host"];

const openText = (host: Host) =>
  host.spec.open?.map((o) => `${o.days}${o.from ? ` ${o.from}–${o.to}` : ""}`).join(", ") ?? "always open";

/** A device: its name, its memory as a bar with what others hold of it, or why it cannot be used. */
function Device({ device, largest }: { device: Schemas["Device"]; largest: number }) {
  const held = device.in_use_gb ?? 0;
  return (
    <Grid templateColumns="2.2rem 6.5rem 1fr" alignItems="center" gap="2" fontSize="sm">
      <Text color="fg.muted">{device.id}</Text>
      <Text>{device.model}</Text>
      {device.unusable ? (
        <Text color="failed">{device.unusable}</Text>
      ) : (
        <Flex align="center" gap="2">
          <Flex
            h="8px"
            w={`${(60 * device.memory_gb) / largest}%`}
            rounded="full"
            overflow="hidden"
            bg="done"
            aria-hidden
          >
            <Box w={`${(100 * held) / device.memory_gb}%`} bg="waiting" />
          </Flex>
          <Text color="fg.muted" whiteSpace="nowrap">
            {device.memory_gb} GB{held > 0 && `, ${held} held`}
            {device.link_width ? `, ×${device.link_width}` : ""}
            {device.linked_to && `, linked to ${device.linked_to}`}
          </Text>
        </Flex>
      )}
    </Grid>
  );
}

/** What a host renders now, and until when. */
function Work({ bookings }: { bookings: Schemas["ScheduledBooking"][] }) {
  const now = bookings.filter((b) => b.rendering);
  if (now.length === 0) return null;
  return (
    <Stack gap="0" fontSize="sm">
      {now.map((b) => (
        <Text key={b.crew + b.run + b.shot}>
          <Text as="span" color="fg.muted">
            {b.crew}
          </Text>{" "}
          renders <Go to={`/runs/${b.run}`}>{b.shot}</Go>, {count(b.frames, "frame")} until about {timeOfDay(b.end)}
        </Text>
      ))}
    </Stack>
  );
}

function HostSheet({
  host,
  largest,
  bookings,
}: {
  host: Host;
  largest: number;
  bookings: Schemas["ScheduledBooking"][];
}) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const drain = useMutation({
    mutationFn: () =>
      answered(
        client.PUT("/hosts/{host}/drain", {
          params: { path: { host: host.spec.name } },
          body: { drain: !host.draining },
        }),
      ),
    onSettled: () => cache.invalidateQueries({ queryKey: ["hosts"] }),
  });
  return (
    <Sheet
      title={
        <Flex align="center" gap="3">
          <Go to={`/hosts/${host.spec.name}`}>{host.spec.name}</Go>
          <State>
            {host.draining
              ? "draining"
              : host.agent === "none"
                ? "no agent yet"
                : host.trouble
                  ? "set aside"
                  : host.agent}
          </State>
          {host.desk && <DeskState desk={host.desk} />}
        </Flex>
      }
      aside={host.spec.note}
    >
      <Stack gap="2" flex="1">
        <Text fontSize="sm" color="fg.muted">
          {host.spec.cpu.cores} cores · {host.spec.memory_gb} GB ·{" "}
          {host.spec.on_ac_power === false ? "on its battery" : "AC power"} · {openText(host)}
        </Text>
        {host.trouble && (
          <Text fontSize="sm" color="failed">
            It takes nothing until that is fixed: {host.trouble}
          </Text>
        )}
        {host.desk && <DeskLine desk={host.desk} />}
        <Work bookings={bookings} />
        {(host.spec.devices ?? []).map((d) => (
          <Device key={d.id} device={d} largest={largest} />
        ))}
        {!host.spec.devices?.length && <Text fontSize="sm">No GPU; it renders on its CPU.</Text>}
      </Stack>
      <Flex mt="4" pt="3" borderTopWidth="1px" borderColor="line" justify="space-between" align="center" gap="4">
        <Text fontSize="sm" color="fg.muted">
          {host.crews.length} crews it can form:{" "}
          {host.crews
            .map((c) => c.id)
            .slice(0, 5)
            .join(", ")}
          {host.crews.length > 5 && " …"}
        </Text>
        {mayWrite && (
          <Button
            size="xs"
            variant="outline"
            loading={drain.isPending}
            onClick={() => drain.mutate()}
            aria-label={`${host.draining ? "Open" : "Drain"} ${host.spec.name}`}
          >
            {host.draining ? "Take work again" : "Drain"}
          </Button>
        )}
      </Flex>
    </Sheet>
  );
}

function Offers() {
  const offers = useOffers();
  if (!offers.data?.length) return null;
  return (
    <Box mt="8">
      <Sheet title="Servers that can be rented">
        <List
          label="Offers"
          rows={offers.data}
          keyOf={(o) => o.spec.name}
          columns={[
            { name: "Offer", cell: (o) => o.spec.name },
            { name: "Source", cell: (o) => o.spec.source },
            { name: "Devices", cell: (o) => o.spec.devices?.map((d) => d.model).join(", ") },
            { name: "An hour", cell: (o) => money(o.currency, o.spec.price_h), right: true },
            { name: "Billed by", cell: (o) => length(o.spec.increment_s), right: true },
            { name: "At least", cell: (o) => length(o.spec.minimum_s), right: true },
            { name: "Until it renders", cell: (o) => length(o.spec.boot_s), right: true },
            { name: "At once", cell: (o) => o.spec.max_servers, right: true },
          ]}
        />
      </Sheet>
    </Box>
  );
}

export function Hosts() {
  const hosts = useHosts();
  const bookings = useSchedule().data?.bookings ?? [];
  return (
    <Page title="Hosts" lead="The machines at hand, and what could be rented." actions={<Make of="hosts" />}>
      <Shown query={hosts}>
        {(all) => {
          const owned = all.filter((h) => !h.server || h.agent === "up");
          if (owned.length === 0)
            return (
              <Empty title="No machine yet" command="rotanex hosts import stock.yaml" next={<Make of="hosts" />}>
                Start an agent on each machine, which finds out by itself what is in it (a join token is made on the
                page <Go to="/access">Access</Go>); or describe it here, or all of them in a file.
              </Empty>
            );
          const largest = Math.max(...owned.flatMap((h) => (h.spec.devices ?? []).map((d) => d.memory_gb)), 1);
          return (
            <Grid templateColumns="repeat(auto-fill, minmax(430px, 1fr))" gap="4">
              {owned.map((h) => (
                <HostSheet
                  key={h.spec.name}
                  host={h}
                  largest={largest}
                  bookings={bookings.filter((b) => b.place === h.spec.name)}
                />
              ))}
            </Grid>
          );
        }}
      </Shown>
      <Offers />
    </Page>
  );
}
