/** Saying amounts: bytes, rates, times. Display only; the figures themselves come from the API. */

const SCALES: [number, string, number][] = [
  [1, "B", 0],
  [1e3, "kB", 1],
  [1e6, "MB", 1],
  [1e9, "GB", 1],
  [1e12, "TB", 2],
  [1e15, "PB", 2],
  [1e18, "EB", 2],
];

/** Decimal size with its unit, such as "12.00 TB" or "3.5 GB". */
export function size(bytes: number): string {
  // By what would be printed: 999.96 GB are 1.00 TB, not 1000 GB.
  const fits = SCALES.find(([scale, , places]) => Number((Math.abs(bytes) / scale).toFixed(places)) < 1000);
  const [scale, name, places] = fits ?? SCALES[SCALES.length - 1]!;
  return `${(bytes / scale).toFixed(places).replace(/\.0$/, "")} ${name}`;
}

/** Binary size with its unit: TiB, GiB, MiB or KiB. */
export function binarySize(bytes: number): string {
  for (const [power, name] of [
    [40, "TiB"],
    [30, "GiB"],
    [20, "MiB"],
    [10, "KiB"],
  ] as const) {
    if (bytes >= 2 ** power)
      return `${(bytes / 2 ** power).toFixed(power === 40 ? 2 : 1).replace(/\.0$/, "")} ${name}`;
  }
  return `${bytes} B`;
}

/** Decimal terabytes, two places, no unit: for columns whose head says TB. */
export function terabytes(bytes: number): string {
  return (bytes / 1e12).toFixed(2);
}

/** A number that comes as whole hundredths, rounded together with others, as it is printed. */
export function hundredths(value: number): string {
  return (value / 100).toFixed(2);
}

/** Tebibytes, two places, no unit: for columns whose head says TiB. */
export function tebibytes(bytes: number): string {
  return (bytes / 2 ** 40).toFixed(2);
}

export function rate(bytesPerSecond: number): string {
  return bytesPerSecond >= 1e10
    ? `${(bytesPerSecond / 1e9).toFixed(0)} GB/s`
    : `${Math.round(bytesPerSecond / 1e6).toLocaleString("en")} MB/s`;
}

/** Bytes a second with their unit, however few: "4.2 kB/s". */
export const flow = (bytesPerSecond: number) => `${size(bytesPerSecond)}/s`;

/** Operations a second: "4.2 a second", "1,240 a second". */
export const often = (operations: number) =>
  `${operations < 9.95 ? operations.toFixed(1) : Math.round(operations).toLocaleString("en")} a second`;

/** Speed of a network port, as network people say it: "25 Gb/s". */
export function speed(bytesPerSecond: number): string {
  const bits = bytesPerSecond * 8;
  return bits >= 1e9 ? `${Number((bits / 1e9).toFixed(1))} Gb/s` : `${Math.round(bits / 1e6)} Mb/s`;
}

/** A span of time, rounded up: "8 s", "44 min", "1 h 04 min", "2 days 5 h". */
export function span(seconds: number): string {
  if (seconds <= 0) return "no time";
  if (seconds < 90) return `${Math.max(1, Math.ceil(seconds))} s`;
  const minutes = Math.ceil(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  if (minutes <= 2880) return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")} min`;
  const hours = Math.ceil(minutes / 60);
  if (hours < 336) return `${Math.floor(hours / 24)} days${hours % 24 ? ` ${hours % 24} h` : ""}`;
  return `${Math.ceil(hours / 24)} days`;
}

/** A short time: "0.42 ms", "8.31 ms", "120 ms", "1.4 s". */
export function milliseconds(seconds: number): string {
  const ms = seconds * 1000;
  if (ms >= 1000) return `${(ms / 1000).toFixed(1)} s`;
  return `${ms.toFixed(ms < 10 ? 2 : 0)} ms`;
}

export function percent(share: number): string {
  return `${(share * 100).toFixed(share > 0 && share < 0.0995 ? 1 : 0)}%`;
}

export function count(number: number, one: string, many = `${one}s`): string {
  return `${number.toLocaleString("en")} ${number === 1 ? one : many}`;
}

/** Names in one phrase: "a", "a and b", "a, b and c". */
export function say(names: readonly string[]): string {
  return [names.slice(0, -1).join(", "), ...names.slice(-1)].filter(Boolean).join(" and ");
}

/** Clock time, 24 h; with the day when it is not today's. */
export function clock(iso: string | null | undefined, now = new Date()): string {
  if (!iso) return "";
  const at = new Date(iso);
  const time = at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
  return at.toDateString() === now.toDateString()
    ? time
    : `${at.toLocaleDateString("en-GB", { day: "numeric", month: "short" })} ${time}`;
}

/** A moment as a name may have it: "2026-11-29-0702", by the clock on the wall here. */
export function moment(now = new Date()): string {
  const two = (n: number) => String(n).padStart(2, "0");
  const day = `${now.getFullYear()}-${two(now.getMonth() + 1)}-${two(now.getDate())}`;
  return `${day}-${two(now.getHours())}${two(now.getMinutes())}`;
}

/** A value in its unit, as figures carry them. */
export function amount(value: number, unit: string): string {
  switch (unit) {
    case "bytes":
      return size(value);
    case "share":
      return percent(value);
    case "seconds":
      return span(value);
    case "bytes per second":
      return rate(value);
    default:
      return value.toLocaleString("en");
  }
}

/** A transport as people write it. */
export const transport = (name: "iscsi" | "nvme") => (name === "nvme" ? "NVMe" : "iSCSI");
