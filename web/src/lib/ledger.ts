/** Rounds a ledger so that every row and column adds up as printed, and each row's raw is its true size, rounded. */

export interface LedgerRow {
  name: string;
  raw: number;
  parts: { name: string; label: string; bytes: number }[];
}

export interface PrintedRow {
  name: string;
  /** Hundredths of a TB, or TiB. */
  raw: number;
  cells: number[];
}

export interface PrintedLedger {
  columns: { name: string; label: string }[];
  rows: PrintedRow[];
  total: PrintedRow;
}

export const TB = 1e12;
export const TIB = 2 ** 40;

/** Whole hundredths that add up to the rounded sum: rounded down, and the missing ones given to the largest remainders. */
function roundTogether(amounts: number[], unit: number): number[] {
  const hundredth = unit / 100;
  const cells = amounts.map((a) => Math.floor(a / hundredth));
  const wanted = Math.round(amounts.reduce((a, b) => a + b, 0) / hundredth);
  const order = [...amounts.keys()].sort((a, b) => (amounts[b]! % hundredth) - (amounts[a]! % hundredth));
  for (const i of order.slice(0, wanted - cells.reduce((a, b) => a + b, 0))) cells[i]! += 1;
  return cells;
}

/** Columns that print as nothing in every row are left out, but for the ones named in `keep`. unit: bytes in what is printed, TB or TiB. */
export function printLedger(ledgers: LedgerRow[], keep: string[] = [], unit = TB): PrintedLedger {
  const all = ledgers[0]?.parts ?? [];
  const cells = ledgers.map((row) =>
    roundTogether(
      row.parts.map((p) => p.bytes),
      unit,
    ),
  );
  const shown = all
    .map((_, i) => i)
    .filter((i) => keep.includes(all[i]!.name) || cells.some((row) => row[i]! > 0));
  const columns = shown.map((i) => ({ name: all[i]!.name, label: all[i]!.label }));
  const rows = ledgers.map((row, r) => ({
    name: row.name,
    raw: cells[r]!.reduce((a, b) => a + b, 0),
    cells: shown.map((i) => cells[r]![i]!),
  }));
  const total = {
    name: "Whole site",
    raw: rows.reduce((a, row) => a + row.raw, 0),
    cells: columns.map((_, i) => rows.reduce((a, row) => a + (row.cells[i] ?? 0), 0)),
  };
  return { columns, rows, total };
}

export function hundredths(value: number): string {
  return (value / 100).toFixed(2);
}
