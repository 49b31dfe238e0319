import assert from "node:assert/strict";
import { test } from "node:test";
import { shuffled, Thinning } from "../stage/thinning.js";

const turned = (thinning, ms, frames) => {
  for (let k = 0; k < frames; k += 1) thinning.took(ms);
  return thinning.share;
};

test("slow frames have fewer points each time, and quick ones more", () => {
  const thinning = new Thinning();
  assert.equal(turned(thinning, 16, 10), 1);
  const few = turned(thinning, 90, 5);
  assert.ok(few < 0.3 && few >= 0.05);
  assert.equal(turned(thinning, 90, 100), 0.05); // never none
  assert.ok(turned(thinning, 10, 60) > 0.9);
});

test("records are shuffled whole, all of them, the same each time", () => {
  const made = () => Float32Array.from({ length: 300 }, (_, k) => k);
  const [once, twice] = [shuffled(made(), 3), shuffled(made(), 3)];
  assert.deepEqual(once, twice);
  const first = [];
  for (let k = 0; k < 300; k += 3) {
    assert.deepEqual([once[k + 1], once[k + 2]], [once[k] + 1, once[k] + 2]);
    first.push(once[k] / 3);
  }
  assert.deepEqual([...first].sort((a, b) => a - b), [...Array(100).keys()]);
  const early = first.slice(0, 50).reduce((a, b) => a + b) / 50;
  assert.ok(Math.abs(early - 49.5) < 15); // the first half is all over
});
