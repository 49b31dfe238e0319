// What the page in the slip asks the stage to draw: its blocks of JSON (docs/formats.md), read as one.
const NOTHING = { selected: null, alike: [], labels: [], ahead: null, movable: null, holds: null, known: null, scan: null };

export function drawing(blocks) {
  const all = { ...NOTHING, point: {} };
  for (const block of blocks) {
    const { point, ...rest } = JSON.parse(block.textContent);
    Object.assign(all, rest);
    Object.assign(all.point, point);
  }
  return all;
}

export const drawingOf = (slip) => drawing(slip.querySelectorAll("script[data-drawing]"));
