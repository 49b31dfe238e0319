import assert from "node:assert/strict";
import { test } from "node:test";
import { besides, ofAngle, ofLength } from "../stage/dimension.js";

const numbers = (d) => d.match(/-?\d+\.\d/g).map(Number);

test("a dimension line lies beside the part, parallel to what it is of, between its extension lines", () => {
  const { lines, arrows, at, out } = ofLength([100, 200], [300, 200], [200, 100]);
  const text = besides(at, out, "12.345");
  const [first, second, line] = lines.map(numbers);
  assert.deepEqual(line, [100, 244, 300, 244]); // away from the part's middle
  assert.deepEqual([first[0], second[0]], [100, 300]);
  assert.ok(first[1] > 200 && first[3] > 244); // from a little off the part to a little beyond the line
  assert.equal(arrows.length, 2);
  assert.ok(text[1] > 244 && text[0] === 200);
});

test("beside a steep line the value gives way by its own width", () => {
  const away = (value) => besides([0, 0], [1, 0], value)[0];
  assert.ok(away("1234.567") > away("1.2") + 30);
});

test("a short one has its arrows outside", () => {
  const [, , line] = ofLength([100, 200], [110, 200], [105, 100]).lines.map(numbers);
  assert.ok(line[0] < 90 && line[2] > 120);
});

test("an angle is drawn along its arc, its value outside it", () => {
  const arc = [...Array(9).keys()].map((k) => [100 * Math.cos(k / 8), 100 * Math.sin(k / 8)]);
  const { at, out, arrows } = ofAngle(arc);
  assert.ok(Math.hypot(...besides(at, out, "45.0°")) > 110);
  assert.equal(arrows.length, 2);
});
