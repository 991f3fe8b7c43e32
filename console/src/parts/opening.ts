/** The column beside a time that says what of it went into opening scenes: none where no row knows. */
export function opening<Row extends { opening_s?: number }>(rows: Row[], cell: (row: Row) => string) {
  return rows.some((r) => r.opening_s) ? [{ name: "Of it opening", cell, right: true }] : [];
}
