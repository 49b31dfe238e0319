import assert from "node:assert/strict";
import { test } from "node:test";
import { Mesh, Raycaster, Vector3 } from "three";
import { PICKED } from "../stage/colors.js";
import { PartModel, unpack } from "../stage/model.js";
import { packedBoxes } from "./part.js";

const part = (kept = null, movable = []) => new PartModel(unpack(packedBoxes()), kept, movable, true);

function ray(from, toward) {
  const caster = new Raycaster(new Vector3(...from), new Vector3(...toward).normalize());
  caster.firstHitOnly = true;
  return caster;
}

test("a packed model is read as it was written", () => {
  const model = unpack(packedBoxes());
  assert.equal(model.units, "mm");
  assert.equal(model.positions.length, 12 * 4 * 3);
  assert.deepEqual([...model.positions.slice(0, 3)], [-10, -10, -10]);
  assert.deepEqual([...model.face_triangles], Array.from({ length: 13 }, (_, k) => 2 * k));
});

test("a ray meets the nearest face of the bodies that are shown", () => {
  const boxes = part();
  const along = () => boxes.hitBy(ray([-500, 1, 2], [1, 0, 0]));
  assert.equal(boxes.faceOf(along()), 0); // the first box, -X
  assert.deepEqual(along().normal.toArray(), [-1, 0, 0]);
  boxes.show(0, false);
  assert.equal(boxes.faceOf(along()), 6); // the second box, -X
  assert.ok(Math.abs(along().point.x - 90) < 1e-9);
  boxes.show(1, false);
  assert.equal(along(), undefined);
});

test("the tree of boxes finds what looking at every triangle finds", () => {
  const boxes = part();
  for (let k = 0; k < 400; k++) {
    const turn = (2.399963 * k) % (2 * Math.PI); // round, by the golden angle
    const from = [50 + 300 * Math.cos(turn), 300 * Math.sin(turn), ((37 * k) % 300) - 150];
    const caster = ray(from, [50 - from[0] + (k % 7) * 9 - 27, -from[1], -from[2] + (k % 5) * 6 - 12]);
    const found = boxes.hitBy(caster);
    const each = boxes.bodies.flatMap(({ mesh }) => {
      const hits = [];
      Mesh.prototype.raycast.call(mesh, caster, hits);
      return hits;
    });
    const nearest = each.sort((a, b) => a.distance - b.distance)[0];
    assert.equal(found === undefined, nearest === undefined);
    if (!found) continue;
    assert.equal(boxes.faceOf(found), boxes.faceOf(nearest));
    assert.ok(found.point.distanceTo(nearest.point) < 1e-6);
  }
});

test("the edge near a place, and no edge where none is near", () => {
  const boxes = part();
  const edge = boxes.edgeNear(new Vector3(9.5, -10, 3), 2);
  assert.ok(boxes.edgeLine(edge).some(([x, y]) => x === 10 && y === -10));
  assert.equal(boxes.edgeNear(new Vector3(0, -10, 0), 2), null);
  boxes.show(0, false);
  assert.equal(boxes.edgeNear(new Vector3(9.5, -10, 3), 2), null);
});

test("bodies that are not of the job stay away, whatever is shown", () => {
  const boxes = part([1], [1]);
  const shown = () => boxes.bodies.map(({ mesh }) => mesh.visible);
  assert.deepEqual(shown(), [false, true]);
  boxes.apart("frame");
  assert.deepEqual(shown(), [false, false]);
  boxes.apart("details");
  assert.deepEqual(shown(), [false, true]);
  assert.deepEqual(boxes.box().min.toArray(), [90, -10, -10]);
});

test("a face is tinted, and no other", () => {
  const boxes = part();
  boxes.tint(new Map([[3, PICKED], [99, PICKED]])); // 99: of a file that was another
  const tinted = [...Array(12).keys()].filter((face) => {
    const vertex = boxes.model.triangles[3 * boxes.model.face_triangles[face]];
    return Math.abs(boxes.colors[3 * vertex] - PICKED.r) < 1e-6;
  });
  assert.deepEqual(tinted, [3]);
});

test("a label lies on its face", () => {
  assert.ok(Math.abs(part().spot(1).x - 10) < 1e-9);
});
