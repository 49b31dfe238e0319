import assert from "node:assert/strict";
import { test } from "node:test";
import { drawing } from "../stage/drawing.js";

const block = (what) => ({ textContent: JSON.stringify(what) });

test("no block asks for nothing", () => {
  const nothing = drawing([]);
  assert.deepEqual([nothing.selected, nothing.alike, nothing.ahead, nothing.point], [null, [], null, {}]);
});

test("blocks are read as one: the last word on each thing, and all that can be pointed at", () => {
  const all = drawing([
    block({ selected: 4, point: { "choice 1": { lines: [[[0, 0, 0], [1, 0, 0]]] } } }),
    block({ alike: [2, 3] }),
    block({ selected: 5, point: { "choice 2": { faces: [7] } } }),
  ]);
  assert.equal(all.selected, 5);
  assert.deepEqual(all.alike, [2, 3]);
  assert.deepEqual(Object.keys(all.point), ["choice 1", "choice 2"]);
});
