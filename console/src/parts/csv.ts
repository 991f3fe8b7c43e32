/** What a cell of a table says without its looks. */
export type Plain = string | number | undefined;

/** Rows as CSV (RFC 4180). What a spreadsheet would take for a formula is not begun as one. */
export function csvOf(rows: Plain[][]): string {
  return rows.map((row) => `${row.map(cell).join(",")}\r\n`).join("");
}

function cell(value: Plain): string {
  if (typeof value === "number" || value === undefined) return String(value ?? "");
  const safe = /^[=+@\t\r-]/.test(value) && Number.isNaN(Number(value)) ? `'${value}` : value;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** How two cells are ordered: numbers and amounts by their size, other words as people sort names with numbers. */
export function order(a: Plain, b: Plain): number {
  const [x, y] = [Number(a), Number(b)];
  if (a !== "" && b !== "" && Number.isFinite(x) && Number.isFinite(y)) return x - y;
  return String(a ?? "").localeCompare(String(b ?? ""), undefined, { numeric: true });
}
