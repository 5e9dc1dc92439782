/** Moving things in an arrangement. Every function gives a new one, so that each step can be taken back. */

export interface RackWish {
  name: string;
  nodes: string[];
}
export interface RoomWish {
  name: string;
  racks: RackWish[];
}

const copy = (rooms: RoomWish[]): RoomWish[] =>
  rooms.map((r) => ({ name: r.name, racks: r.racks.map((k) => ({ name: k.name, nodes: [...k.nodes] })) }));
const racksOf = (rooms: RoomWish[]) => rooms.flatMap((r) => r.racks);

/** Into another rack, at its end. */
export function moveTo(rooms: RoomWish[], name: string, rack: string): RoomWish[] {
  const from = racksOf(rooms).find((k) => k.nodes.includes(name));
  if (!from || from.name === rack || !racksOf(rooms).some((k) => k.name === rack)) return rooms;
  const next = copy(rooms);
  for (const k of racksOf(next)) k.nodes = k.nodes.filter((n) => n !== name);
  racksOf(next)
    .find((k) => k.name === rack)!
    .nodes.push(name);
  return next;
}

/** One stall or one rack further; at an end nothing happens. */
export function moveBeside(
  rooms: RoomWish[],
  name: string,
  way: "left" | "right" | "up" | "down",
): RoomWish[] {
  const racks = racksOf(rooms);
  const at = racks.findIndex((k) => k.nodes.includes(name));
  if (at < 0) return rooms;
  if (way === "left" || way === "right") {
    const to = racks[at + (way === "left" ? -1 : 1)];
    return to ? moveTo(rooms, name, to.name) : rooms;
  }
  const stall = racks[at]!.nodes.indexOf(name);
  const other = stall + (way === "up" ? -1 : 1);
  if (other < 0 || other >= racks[at]!.nodes.length) return rooms;
  const next = copy(rooms);
  const nodes = racksOf(next)[at]!.nodes;
  [nodes[stall], nodes[other]] = [nodes[other]!, nodes[stall]!];
  return next;
}

function free(taken: string[], word: string): string {
  for (let n = 1; ; n += 1)
    if (!taken.some((t) => t.toLowerCase() === `${word} ${n}`.toLowerCase())) return `${word} ${n}`;
}

/** A new rack in a room; without a room, a new room with a rack. */
export function add(rooms: RoomWish[], room?: string): RoomWish[] {
  const next = copy(rooms);
  const rack = {
    name: free(
      racksOf(rooms).map((k) => k.name),
      "Rack",
    ),
    nodes: [],
  };
  if (room === undefined)
    next.push({
      name: free(
        rooms.map((r) => r.name),
        "Room",
      ),
      racks: [rack],
    });
  else next.find((r) => r.name === room)?.racks.push(rack);
  return next;
}

/** An empty rack goes, and its room when that was the last one. */
export function remove(rooms: RoomWish[], rack: string): RoomWish[] {
  return copy(rooms)
    .map((r) => ({ ...r, racks: r.racks.filter((k) => k.name !== rack || k.nodes.length > 0) }))
    .filter((r) => r.racks.length > 0);
}

export function rename(rooms: RoomWish[], what: "room" | "rack", old: string, name: string): RoomWish[] {
  const wanted = name.trim();
  if (!wanted || wanted === old) return rooms;
  const next = copy(rooms);
  for (const room of next) {
    if (what === "room" && room.name === old) room.name = wanted;
    for (const rack of room.racks) if (what === "rack" && rack.name === old) rack.name = wanted;
  }
  return next;
}
