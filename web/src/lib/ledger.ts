/** Rounds a ledger so that every row and column adds up as printed: the parts are rounded, then added. */

export interface LedgerRow {
  name: string;
  raw: number;
  parts: { name: string; label: string; bytes: number }[];
}

export interface PrintedRow {
  name: string;
  /** Hundredths of a TB. */
  raw: number;
  cells: number[];
}

export interface PrintedLedger {
  columns: { name: string; label: string }[];
  rows: PrintedRow[];
  total: PrintedRow;
}

const HUNDREDTH = 1e10; // bytes in a hundredth of a TB

/** Columns that print as nothing in every row are left out, but for the ones named in `keep`. */
export function printLedger(ledgers: LedgerRow[], keep: string[] = []): PrintedLedger {
  const all = ledgers[0]?.parts ?? [];
  const shown = all.filter((part, i) => keep.includes(part.name) || ledgers.some((row) => Math.round((row.parts[i]?.bytes ?? 0) / HUNDREDTH) > 0));
  const columns = shown.map(({ name, label }) => ({ name, label }));
  const rows = ledgers.map((row) => {
    const cells = columns.map((c) => Math.round((row.parts.find((p) => p.name === c.name)?.bytes ?? 0) / HUNDREDTH));
    return { name: row.name, raw: cells.reduce((a, b) => a + b, 0), cells };
  });
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
