import assert from "node:assert/strict";
import { test } from "node:test";
import { Vector3 } from "three";
import { adjusterLine } from "../stage/tools/adjuster.js";
import { atHeight } from "../stage/tools/stand.js";

test("an adjuster pushes into the face, along the axis nearest to it", () => {
  const line = adjusterLine(3, new Vector3(1, 2.345, -6), new Vector3(0.1, -0.9, 0.2), "1.5 mm");
  assert.equal(line, "Screw 3; 1.00 mm; 2.35 mm; -6.00 mm; +Y; 1.5 mm");
});

test("a place to stand is where the pointer meets the height, also behind the eye", () => {
  const down = { origin: new Vector3(5, 6, 900), direction: new Vector3(0, 0, -1) };
  assert.deepEqual(atHeight(down, 1500).toArray(), [5, 6, 1500]);
  assert.deepEqual(atHeight(down, 100).toArray(), [5, 6, 100]);
});

test("nobody stands beyond the world, or at a height that is no number", () => {
  const level = { origin: new Vector3(0, 0, 0), direction: new Vector3(1, 0, 0) };
  assert.equal(atHeight(level, 100), null);
  assert.equal(atHeight({ origin: new Vector3(), direction: new Vector3(0, 0, 1) }, Number.NaN), null);
});
