/** Names on a map: those that fit without covering another one. */

type Named = { x: number; y: number; text: string; first: boolean };
type Side = "right" | "left";
type Box = { left: number; top: number; right: number; bottom: number };

/** About the width of a letter, and the height of a line, in pixels. */
const LETTER = 7;
const LINE = 18;
/** From the middle of a mark to its name, and from there to its edge. */
const GAP = 8;
const MARK = 7;
/** With more points than these, names are shown under the pointer only. */
const MOST = 400;

const covers = (a: Box, b: Box) => a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;

/**
 * For each point on which side its name is shown, or null if there is no room: it is then shown under the pointer. Those that
 * come `first` get their room before the others.
 */
export function sides(points: Named[], width: number): (Side | null)[] {
  const taken: Box[] = points.map(({ x, y }) => ({ left: x - MARK, top: y - MARK, right: x + MARK, bottom: y + MARK }));
  const found: (Side | null)[] = points.map(() => null);
  if (points.length > MOST) return found;
  const order = [...points.entries()].sort(([, a], [, b]) => Number(b.first) - Number(a.first));
  for (const [n, { x, y, text }] of order) {
    const long = text.length * LETTER;
    for (const side of ["right", "left"] as const) {
      const left = side === "right" ? x + GAP : x - GAP - long;
      const box = { left, top: y - LINE / 2, right: left + long, bottom: y + LINE / 2 };
      if (box.left < 0 || box.right > width || taken.some((other) => covers(box, other))) continue;
      taken.push(box);
      found[n] = side;
      break;
    }
  }
  return found;
}
