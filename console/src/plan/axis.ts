import type { Schemas } from "../api/client";

type Plan = Schemas["Plan"];
type Booking = Schemas["PlannedBooking"];

/** A row of the time axis: one crew, with what it does when. */
export type Row = {
  place: string;
  crew: string;
  source: string;
  owned: boolean;
  bookings: Booking[];
  server?: Schemas["PlannedServer"];
};

export function rowsOf(plan: Plan): Row[] {
  const rows = new Map<string, Row>();
  for (const b of plan.bookings ?? []) {
    const key = `${b.place}/${b.crew}`;
    let row = rows.get(key);
    if (!row) {
      const server = plan.servers?.find((s) => s.id === b.place);
      row = { place: b.place, crew: b.crew, source: b.source ?? "", owned: !!b.owned, bookings: [], server };
      rows.set(key, row);
    }
    row.bookings.push(b);
  }
  return [...rows.values()].sort(
    (a, b) =>
      Number(b.owned) - Number(a.owned) ||
      a.source.localeCompare(b.source) ||
      a.place.localeCompare(b.place) ||
      a.crew.localeCompare(b.crew),
  );
}

/** The stretches of the axis in which a host is not free. */
export function shut(plan: Plan, host: string, end: Date): { from: Date; to: Date }[] {
  const hours = plan.hours?.find((h) => h.host === host);
  if (!hours) return [];
  const out: { from: Date; to: Date }[] = [];
  let from = new Date(plan.start);
  for (const w of hours.windows) {
    const opens = new Date(w.from);
    if (opens > from) out.push({ from, to: opens });
    from = new Date(w.to);
  }
  if (from < end) out.push({ from, to: end });
  return out;
}

/** The end of the time axis, with a little room after the last that happens. */
export function axisEnd(plan: Plan): Date {
  const ends = [plan.finish, plan.deadline ?? plan.finish, ...(plan.servers ?? []).map((s) => s.to)].map((t) =>
    Date.parse(t),
  );
  const start = Date.parse(plan.start);
  return new Date(start + (Math.max(...ends) - start) * 1.04);
}
