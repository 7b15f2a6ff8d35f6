export type Order = "index" | "box";
type Box = { ids: number[]; names: string[] };
export type Cell = { place: number; column: number; row: number };

/** Where the cells stand: one behind the other, or odd numbers above even ones as on the front of a box. */
export function layout(device: Box, order: Order, columns: number): Cell[] {
  if (order === "index")
    return device.ids.map((_, place) => ({ place, column: place % columns, row: Math.floor(place / columns) }));
  const split = device.names.map((name) => /^(.*?)(\d+)$/.exec(name));
  const families = new Map<string, { first: number; numbers: number[] }>();
  for (const part of split) {
    if (!part) continue;
    const family = families.get(part[1] ?? "") ?? { first: 0, numbers: [] };
    family.numbers.push(Number(part[2]));
    families.set(part[1] ?? "", family);
  }
  let room = 0;
  for (const family of families.values()) {
    family.first = room;
    room += Math.ceil((Math.max(...family.numbers) - Math.min(...family.numbers) + 1) / 2) + 1;
  }
  let others = 0;
  return split.map((part, place) => {
    const family = part && families.get(part[1] ?? "");
    const slot = family ? Number(part[2]) - Math.min(...family.numbers) : others++;
    const column = (family ? family.first : room) + Math.floor(slot / 2);
    return { place, column: column % columns, row: (slot % 2) + 2 * Math.floor(column / columns) };
  });
}
