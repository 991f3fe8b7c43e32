import Decimal from "decimal.js-light";

/** How numbers and times are shown: with their unit, in the viewer's zone. */

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hour12: false });
const dayClock = new Intl.DateTimeFormat(undefined, {
  weekday: "short",
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
});
const clockSeconds = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hour12: false,
});
const weekdayClock = new Intl.DateTimeFormat(undefined, {
  weekday: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
});
const zoned = new Intl.DateTimeFormat(undefined, { timeZoneName: "short" });

export const none = "—";

export const zoneName = () => zoned.formatToParts(new Date()).find((p) => p.type === "timeZoneName")?.value ?? "";

export const timeOfDay = (at: string | Date) => clock.format(new Date(at));

/** A time on an axis, as exactly as tells it from the next: with seconds where ticks lie closer than a minute, with
 * its day where they reach over one. */
export function tick(at: Date, all: Date[]): string {
  const first = +(all[0] ?? at);
  const apart = all.length > 1 ? +(all[1] as Date) - first : 0;
  if (apart > 0 && apart < 60_000) return clockSeconds.format(at);
  return +(all.at(-1) ?? at) - first > 20 * 3_600_000 ? weekdayClock.format(at) : clock.format(at);
}

export const moment = (at?: string | Date) => (at ? dayClock.format(new Date(at)) : none);

/** A time as a field for local times has it. */
export const localInput = (t: Date) =>
  new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

/** A length of time for a person: 0.84 s, 72.5 s, 4 min 10 s, 3 h 05 min. */
/** What opening a scene takes, for how many frames of a start. */
export function opening(x: { opening_s?: number; in_start?: number }): string {
  const frames = x.in_start ?? 1;
  return x.opening_s ? `${length(x.opening_s)} per ${frames > 1 ? count(frames, "frame") : "frame"}` : none;
}

export function length(seconds?: number): string {
  if (!seconds || seconds <= 0) return none;
  if (seconds < 10) return `${seconds.toFixed(2)} s`;
  if (seconds < 120) return `${seconds.toFixed(1)} s`;
  const two = (n: number) => String(n).padStart(2, "0");
  if (seconds < 3600) {
    const whole = Math.round(seconds);
    return `${Math.floor(whole / 60)} min ${two(whole % 60)} s`;
  }
  const minutes = Math.round(seconds / 60);
  return `${Math.floor(minutes / 60)} h ${two(minutes % 60)} min`;
}

/** A length of time that is known to the minute only: 12 min, 1 h 07 min. */
export function roughly(seconds?: number): string {
  if (!seconds || seconds <= 0) return none;
  const minutes = Math.max(1, Math.round(seconds / 60));
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")} min`;
}

/** The exact sum of decimal strings, to hundredths. */
export const sum = (amounts: string[]) =>
  amounts.reduce((total, a) => total.plus(a), new Decimal(0)).toFixed(2, Decimal.ROUND_HALF_UP);

/** Money with its currency, from the decimal string that the service sends. */
export function money(currency: string, amount?: string): string {
  if (amount === undefined || amount === "") return none;
  const decimals = Math.max(2, amount.split(".")[1]?.length ?? 0);
  return new Intl.NumberFormat(undefined, {
    style: "currency",
    currency,
    minimumFractionDigits: decimals,
    maximumFractionDigits: decimals,
  }).format(amount as unknown as number);
}

export const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString()} ${n === 1 ? one : many}`;

export const percent = (x: number) => `${(100 * x).toFixed(1)} %`;

export function bytes(n?: number): string {
  if (!n) return none;
  return n >= 1e9
    ? `${(n / 1e9).toFixed(1)} GB`
    : n >= 1e6
      ? `${(n / 1e6).toFixed(0)} MB`
      : n >= 1e3
        ? `${(n / 1e3).toFixed(0)} kB`
        : `${n.toFixed(0)} B`;
}

/** How far a time is from another: "12 min early", "1 h 05 min late", "on time". */
export function drift(expected: string, against: string): { text: string; late: boolean } {
  const seconds = (Date.parse(expected) - Date.parse(against)) / 1000;
  if (Math.abs(seconds) < 60) return { text: "on time", late: false };
  return { text: `${length(Math.abs(seconds))} ${seconds > 0 ? "late" : "early"}`, late: seconds > 0 };
}

/** A chance, never rounded to a certainty that it is not. */
export function chance(x: number): string {
  if (x > 0 && x < 0.01) return "under 1 %";
  if (x > 0.99) return "over 99 %";
  return `${Math.round(100 * x)} %`;
}

/** A time, without its day where that is another's. */
export function near(t: string | undefined, other?: string) {
  const sameDay = t && other && new Date(t).toDateString() === new Date(other).toDateString();
  return sameDay ? timeOfDay(new Date(t)) : moment(t);
}
