/**
 * Inventory files in batches that are sent one after the other: all files of a node stay together, and a
 * batch stays small enough to show progress.
 */

export interface Named {
  name: string;
  size: number;
}

/**
 * What a file's name begins with, before the tool's name: files with the same beginning are of the same
 * node.
 */
export function stem(name: string): string {
  return name
    .replace(/\.json$/i, "")
    .replace(/[._-](lsblk|smartctl|smart|ip|inventory|report)(?![a-z0-9]).*$/i, "");
}

export function batches<T extends Named>(files: T[], mostFiles = 40, mostBytes = 8_000_000): T[][] {
  const byNode = new Map<string, T[]>();
  for (const file of files) byNode.set(stem(file.name), [...(byNode.get(stem(file.name)) ?? []), file]);
  const found: T[][] = [];
  let current: T[] = [];
  let bytes = 0;
  for (const group of byNode.values()) {
    const size = group.reduce((sum, f) => sum + f.size, 0);
    if (current.length && (current.length + group.length > mostFiles || bytes + size > mostBytes)) {
      found.push(current);
      [current, bytes] = [[], 0];
    }
    current.push(...group);
    bytes += size;
  }
  if (current.length) found.push(current);
  return found;
}
