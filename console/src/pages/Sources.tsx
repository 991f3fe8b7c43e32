import { Stack, Text } from "@chakra-ui/react";
import { answered, client, type Schemas } from "../api/client";
import {
  useEntries,
  useFarms,
  useLicences,
  useOffers,
  useRates,
  useSeats,
  useSession,
  useSources,
} from "../api/queries";
import { Changed, Make } from "../forms/Make";
import { money, none, roughly } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { DoneTo } from "../parts/Records";
import { useMayWrite } from "../parts/role";
import { Empty, Shown } from "../parts/States";
import { TakeIn } from "../parts/TakeIn";
import { Entries } from "../run/Entries";

type Source = Schemas["Source"];

const whole = (part?: number) => (part ? `${Math.round(100 * part)} %` : none);

/** What a source's prices are in, and what one of them comes to. */
function prices(s: Source) {
  const { card } = s.spec;
  const parts = [card.currency];
  if (card.credit) parts.push(`at ${money(card.credit.currency, card.credit.price)}`);
  if (card.tax) parts.push(`plus ${Math.round(100 * Number(card.tax))} % tax`);
  return parts.join(" ");
}

function state(s: Source) {
  if (s.factor_fault) return <Text color="failed">{s.factor_fault}</Text>;
  if (s.fault) return <Text color="failed">{s.fault}</Text>;
  return <State>{!s.spec.address ? "no address" : s.asked ? "reached" : "not asked yet"}</State>;
}

/** How much of a source's cap is gone. */
function cap(s: Source) {
  if (!s.spec.cap) return none;
  const used = (Number(s.charged) + Number(s.committed)) / Math.max(0.01, Number(s.spec.cap));
  return (
    <Text as="span" color={used >= 0.8 ? "failed" : undefined}>
      {money(s.currency, s.spec.cap)}, {Math.round(100 * used)} % used
    </Text>
  );
}

function Known({ all }: { all: Source[] }) {
  if (all.length === 0)
    return (
      <Empty title="No source yet" command="rotanex sources import stock.yaml" next={<Make of="sources" />}>
        Sources are where hosts come from that are not your own: servers that can be rented, farms.
      </Empty>
    );
  return (
    <Sheet title="Sources">
      <List
        label="Sources"
        rows={all}
        keyOf={(s) => s.spec.name}
        columns={[
          {
            name: "Source",
            value: (s) => s.spec.name,
            cell: (s) => <Changed of="sources" name={s.spec.name} note={s.spec.note} />,
          },
          { name: "Kind", value: (s) => s.spec.kind, cell: (s) => s.spec.kind },
          { name: "Prices in", cell: prices },
          {
            name: "One comes to",
            cell: (s) => (s.factor ? money(s.currency, Number(s.factor).toFixed(4)) : none),
            right: true,
          },
          { name: "Charged", value: (s) => s.charged, cell: (s) => money(s.currency, s.charged), right: true },
          {
            name: "Committed",
            value: (s) => s.committed,
            cell: (s) => money(s.currency, s.committed),
            right: true,
          },
          { name: "Cap", cell: cap, right: true },
          { name: "Usable tries", cell: (s) => whole(s.usable_share), right: true },
          { name: "State", cell: state },
        ]}
      />
    </Sheet>
  );
}

/** How long an offer or a tier takes to begin: as it was declared, or as it was seen to. */
function Begins({ place, declared }: { place: string; declared: number }) {
  const sources = useSources();
  const wait = sources.data?.items.flatMap((s) => s.waits ?? []).find((w) => w.place === place);
  if (!wait || (wait.seen === 0 && wait.never === 0)) return <>{roughly(declared)}, as declared</>;
  const never = wait.never > 0 ? `, ${wait.never} of ${wait.ordered} never came` : "";
  return (
    <Stack gap="0" title={wait.late_s ? `nine in ten take less than ${roughly(wait.late_s)}` : undefined}>
      <Text>
        {roughly(wait.typical_s)}
        {never}
      </Text>
      <Text color="fg.muted" fontSize="xs">
        {roughly(wait.declared_s)} declared, {wait.seen || "none"} seen{wait.ordered === 0 && " of its source"}
      </Text>
    </Stack>
  );
}

/** A price as its source states it, in the currency or credits of its rate card. */
function usePriced() {
  const sources = useSources();
  return (source: string, amount?: string) => {
    const currency = sources.data?.items.find((s) => s.spec.name === source)?.spec.card.currency;
    return !amount || Number(amount) === 0 ? none : `${amount} ${currency ?? ""}`;
  };
}

function Offers() {
  const offers = useOffers();
  const priced = usePriced();
  return (
    <Shown query={offers}>
      {(all) =>
        all.length > 0 && (
          <Sheet title="Servers that can be rented">
            <List
              label="Offers"
              rows={all}
              keyOf={(o) => o.spec.name}
              columns={[
                { name: "Offer", cell: (o) => <Changed of="offers" name={o.spec.name} note={o.spec.note} /> },
                { name: "Source", cell: (o) => o.spec.source },
                { name: "At most", cell: (o) => o.spec.max_servers, right: true },
                { name: "An hour", cell: (o) => priced(o.spec.source, o.spec.price_h), right: true },
                { name: "Fee", cell: (o) => priced(o.spec.source, o.spec.fee), right: true },
                { name: "Billed by", cell: (o) => roughly(o.spec.increment_s), right: true },
                { name: "At least", cell: (o) => roughly(o.spec.minimum_s), right: true },
                {
                  name: "Up after",
                  cell: (o) => <Begins place={o.spec.name} declared={o.spec.boot_s} />,
                  right: true,
                },
                { name: "First set-up", cell: (o) => roughly(o.spec.setup_s), right: true },
                { name: "Devices", cell: (o) => devices(o.spec) },
              ]}
            />
          </Sheet>
        )
      }
    </Shown>
  );
}

function devices(x: { cpu: { cores: number }; devices?: { model: string }[] }) {
  const models = (x.devices ?? []).map((d) => d.model);
  const first = models[0];
  return first ? `${models.length > 1 ? `${models.length} × ` : ""}${first}` : `${x.cpu.cores} cores`;
}

function Farms() {
  const farms = useFarms();
  const priced = usePriced();
  return (
    <Shown query={farms}>
      {(all) =>
        all.items.length > 0 && (
          <Sheet title="Farms, by tier">
            <List
              label="Farms"
              rows={all.items}
              keyOf={(f) => f.name}
              columns={[
                { name: "Farm", cell: (f) => <Changed of="farms" name={f.name} note={f.note} /> },
                { name: "Nodes", cell: (f) => f.nodes, right: true },
                { name: "A node", cell: devices },
                { name: "Node-hour", cell: (f) => priced(f.source, f.work.node_hour), right: true },
                { name: "Core-GHz-hour", cell: (f) => priced(f.source, f.work.core_ghz_hour), right: true },
                { name: "Least charge", cell: (f) => priced(f.source, f.work.minimum_charge), right: true },
                { name: "First frame after", cell: (f) => <Begins place={f.name} declared={f.lead_s} />, right: true },
                { name: "Renders", cell: (f) => f.launchers?.join(", ") ?? none },
              ]}
            />
          </Sheet>
        )
      }
    </Shown>
  );
}

/** Who holds seats now. */
function Held() {
  const seats = useSeats().data?.items ?? [];
  if (seats.length === 0) return null;
  return (
    <Text color="fg.muted" fontSize="sm" mt="3">
      Held now: {seats.map((s) => `${s.pool} by ${s.host}`).join(", ")}
    </Text>
  );
}

/** Seats of renderers' licences. */
function Licences() {
  const currency = useSession().data?.currency;
  return (
    <Shown query={useLicences()}>
      {(all) => (
        <Sheet title="Licence seats" aside={<Make of="licences" quiet />}>
          {all.items.length === 0 ? (
            <Text color="fg.muted">No renderer needs a seat that is counted.</Text>
          ) : (
            <List
              label="Licence seats"
              rows={all.items}
              keyOf={(l) => l.pool}
              columns={[
                { name: "Pool", cell: (l) => <Changed of="licences" name={l.pool} /> },
                { name: "Kind", cell: (l) => l.kind },
                { name: "Seats", cell: (l) => l.seats, right: true },
                { name: "Could be hired", cell: (l) => l.extra_seats || none, right: true },
                {
                  name: "A day of one",
                  cell: (l) => (currency ? money(currency, l.extra_seat_price) : none),
                  right: true,
                },
              ]}
            />
          )}
          <Held />
        </Sheet>
      )}
    </Shown>
  );
}

function Rates() {
  const rates = useRates();
  const mayWrite = useMayWrite();
  return (
    <Shown query={rates}>
      {(all) =>
        (all.items.length > 0 || mayWrite) && (
          <Sheet title="Exchange rates" aside="as they were given; the last on or before a day holds">
            {all.items.length > 0 && (
              <List
                label="Exchange rates"
                rows={[...all.items].reverse()}
                keyOf={(r) => r.day + r.from + r.to}
                columns={[
                  { name: "From", cell: (r) => r.day },
                  { name: "One", cell: (r) => r.from },
                  { name: "Is worth", cell: (r) => `${r.rate} ${r.to}`, right: true },
                ]}
              />
            )}
            {mayWrite && (
              <TakeIn
                what="exchange rates"
                example={"date,from,to,rate\n2031-03-07,GBP,EUR,1.16"}
                send={async (csv) => {
                  await answered(
                    client.POST("/exchange-rates", {
                      body: csv,
                      bodySerializer: (text) => text,
                      headers: { "Content-Type": "text/csv" },
                    }),
                  );
                  return "Taken in";
                }}
                stale={["rates"]}
              />
            )}
          </Sheet>
        )
      }
    </Shown>
  );
}

/** Where hosts come from that are not one's own: prices, money spent, how they did. */
export function Sources() {
  const sources = useSources();
  const session = useSession();
  const entries = useEntries();
  return (
    <Page
      title="Sources"
      lead={session.data && `Rented servers and farms; what they cost is shown in ${session.data.currency}`}
      actions={
        <>
          {sources.data?.items.length ? (
            <>
              <Make of="offers" quiet />
              <Make of="farms" quiet />
            </>
          ) : null}
          <Make of="sources" />
        </>
      }
    >
      <Stack gap="6">
        <Shown query={sources}>{(all) => <Known all={all.items} />}</Shown>
        <Offers />
        <Farms />
        <Licences />
        <Rates />
        <Shown query={entries}>
          {(all) =>
            all.items.length > 0 && (
              <Entries
                title={all.next ? "Ledger of the last 100 runs, by entry" : "Ledger of all runs, by entry"}
                list={all}
              />
            )
          }
        </Shown>
        <DoneTo about="/sources" />
      </Stack>
    </Page>
  );
}
