import assert from "node:assert/strict";
import { test } from "node:test";
import { age, left, length } from "../place.js";
import { settled } from "../stage/settled.js";

const MM = { mm: 1, decimals: 3 };
const INCH = { mm: 25.4, decimals: 4 };

test("how old a number is, in words", () => {
  assert.deepEqual([0, 1499, 1500, 59_000, 60_000, 150_000].map(age), ["now", "now", "2 s ago", "59 s ago", "1 min ago", "3 min ago"]);
});

test("what is left of a turn is said beside where it is to go", () => {
  const turning = { name: "Foot 3", left: "1.17 turns", hand: "clockwise", way: "2.310 up", enough: false, astray: false };
  assert.equal(left(turning), "Foot 3: still 1.17 turns, clockwise.");
  assert.equal(left({ ...turning, enough: true }), "Foot 3: enough.");
  assert.equal(left({ ...turning, astray: true }), "Foot 3: stop, it goes another way.");
  assert.equal(left(undefined), "");
});

test("lengths from a zero carry their sign, in mm and in inches", () => {
  assert.equal(length(1.23456, MM), "+1.235");
  assert.equal(length(-25.4, INCH), "−1.0000");
  assert.equal(length(0, MM), "+0.000");
});

test("what is asked for often is done when it is quiet, and at the latest after a while", (context) => {
  context.mock.timers.enable({ apis: ["setTimeout"] });
  let now = 0;
  context.mock.method(performance, "now", () => now);
  let done = 0;
  const soon = settled(() => (done += 1), 50, 120);
  const pass = (ms) => {
    now += ms;
    context.mock.timers.tick(ms);
  };
  for (let k = 0; k < 5; k++) {
    soon();
    pass(20);
  }
  assert.equal(done, 0);
  soon();
  pass(20); // 120 ms after the first
  assert.equal(done, 1);
  soon();
  pass(50);
  assert.equal(done, 2);
});
