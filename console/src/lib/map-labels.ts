/** Names on a map: those that fit without covering another one. */

type Named = { x: number; y: number; texts: string[]; first: boolean };
type Side = "right" | "left" | "top" | "bottom";
type Label = { side: Side; text: string };
type Box = { left: number; top: number; right: number; bottom: number };

/** About the width of a letter, and the height of a line, in pixels. */
const LETTER = 6.5;
const LINE = 18;
/** From the middle of a mark to its name, and from there to its edge. */
const GAP = 8;
const MARK = 7;
/** With more points than these, names are shown under the pointer only. */
const MOST = 400;

/** Where a label may stand, the best first. */
const SIDES: readonly Side[] = ["right", "left", "top", "bottom"];

const covers = (a: Box, b: Box) => a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;

/**
 * The label of each point: the first of its texts that fits, and the side on which it stands. Null if no text fits; the name is
 * then shown under the pointer. Points that are `first` get their labels before the others.
 */
export function labels(points: Named[], width: number): (Label | null)[] {
  if (points.length > MOST) return points.map(() => null);
  const taken: Box[] = points.map(({ x, y }) => ({ left: x - MARK, top: y - MARK, right: x + MARK, bottom: y + MARK }));
  const found: (Label | null)[] = points.map(() => null);
  const order = [...points.entries()].sort(([, a], [, b]) => Number(b.first) - Number(a.first));
  for (const [n, point] of order) {
    const tries = point.texts.flatMap((text) => SIDES.map((side) => ({ side, text })));
    for (const label of tries) {
      const box = boxOf(point, label);
      if (box.left < 0 || box.right > width || taken.some((other) => covers(box, other))) continue;
      taken.push(box);
      found[n] = label;
      break;
    }
  }
  return found;
}

function boxOf({ x, y }: Named, { side, text }: Label): Box {
  const long = text.length * LETTER;
  if (side === "top" || side === "bottom") {
    const top = side === "top" ? y - GAP - LINE : y + GAP;
    return { left: x - long / 2, top, right: x + long / 2, bottom: top + LINE };
  }
  const left = side === "right" ? x + GAP : x - GAP - long;
  return { left, top: y - LINE / 2, right: left + long, bottom: y + LINE / 2 };
}
