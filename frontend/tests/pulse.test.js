import assert from "node:assert/strict";
import { test } from "node:test";
import { paceMs, voiceOf } from "../pulse.js";

test("pulses quicken as the place is neared, and are steady when it is in", () => {
  const at = (mm) => paceMs({ word: "out", mm, zone: 0.05 });
  const paces = [40, 5, 1, 0.2, 0.1, 0.051].map(at);
  assert.deepEqual([...paces].sort((a, b) => b - a), paces);
  assert.equal(paces[0], 1200);
  assert.ok(paces.at(-1) < 120);
  assert.equal(paceMs({ word: "in", mm: 0.04, zone: 0.05 }), paceMs({ word: "in", mm: 0.001, zone: 0.05 }));
});

test("which way is told by two timbres, and in, doubtful and lost by pitches of their own", () => {
  assert.notEqual(voiceOf({ word: "out", side: 1 }).timbre, voiceOf({ word: "out", side: -1 }).timbre);
  const pitches = ["in", "out", "not proven", "lost"].map((word) => voiceOf({ word, side: 1 }).pitch);
  assert.equal(new Set(pitches).size, 4);
});
