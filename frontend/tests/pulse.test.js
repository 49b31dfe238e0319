import assert from "node:assert/strict";
import { test } from "node:test";
import { heardOfLight, paceMs, voiceOf } from "../pulse.js";

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

test("a scanner held near or far is heard the quicker the less is left of its range, and right is silent", () => {
  const paces = [0.15, 0.1, 0.03, 0].map((share) => paceMs(heardOfLight({ held: "near", share, border: 0.15 })));
  assert.deepEqual([...paces].sort((a, b) => b - a), paces);
  assert.equal(heardOfLight({ held: "far", share: 0.95, border: 0.15 }).word, "far");
  assert.equal(heardOfLight({ held: "right", share: 0.5, border: 0.15 }), null);
  assert.ok(voiceOf({ word: "near" }).pitch > voiceOf({ word: "far" }).pitch);
  assert.equal(paceMs(heardOfLight({ held: "nothing", share: null, border: 0.15 })), 1200);
});
