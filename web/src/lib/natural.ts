/** Natural order: 2 before 10, case aside. */
const collator = new Intl.Collator("en", { numeric: true, sensitivity: "base" });

export function natural(a: string, b: string): number {
  return collator.compare(a, b);
}
