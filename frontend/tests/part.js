// Two boxes side by side as a packed model (docs/formats.md): 12 faces, 24 triangles.
import { Buffer } from "node:buffer";

const SIDES = [
  [0, 0], [0, 1], [1, 0], [1, 1], [2, 0], [2, 1],
]; // prettier-ignore

function box(middle, half) {
  return SIDES.map(([axis, end]) => {
    const [u, v] = [0, 1, 2].filter((a) => a !== axis);
    const normal = [0, 0, 0];
    normal[axis] = end ? 1 : -1;
    const corners = [[-1, -1], [1, -1], [1, 1], [-1, 1]].map(([p, q]) => {
      const corner = [...middle];
      corner[axis] += normal[axis] * half;
      corner[u] += p * half;
      corner[v] += q * half;
      return corner;
    }); // prettier-ignore
    return { normal, corners };
  });
}

export function packedBoxes(middles = [[0, 0, 0], [100, 0, 0]], half = 10) {
  const sides = middles.flatMap((middle, body) => box(middle, half).map((side) => ({ ...side, body })));
  const edges = sides.map(({ corners, body }) => ({ points: [...corners, corners[0]], body }));
  const counts = edges.map(({ points }) => points.length);
  const arrays = {
    positions: ["f4", sides.flatMap(({ corners }) => corners.flat())],
    normals: ["f4", sides.flatMap(({ normal }) => [0, 1, 2, 3].flatMap(() => normal))],
    triangles: ["u4", sides.flatMap((_, k) => [0, 1, 2, 0, 2, 3].map((corner) => 4 * k + corner))],
    face_triangles: ["u4", [...sides.keys(), sides.length].map((k) => 2 * k)],
    edge_points: ["f4", edges.flatMap(({ points }) => points.flat())],
    edge_starts: ["u4", counts.reduce((starts, n) => [...starts, starts.at(-1) + n], [0])],
    edge_bodies: ["u4", edges.map(({ body }) => body)],
  };
  const faces = sides.map(({ corners, body }, index) => {
    const along = (axis) => corners.map((corner) => corner[axis]);
    return { index, body, surface: "plane", box: [...[0, 1, 2].map((a) => Math.min(...along(a))), ...[0, 1, 2].map((a) => Math.max(...along(a)))] };
  });
  const bodies = middles.map((_, index) => ({ index, name: `Box ${index}`, faces: 6 }));
  return packed({ units: "mm", bodies, faces }, arrays);
}

function packed(head, arrays) {
  const list = Object.entries(arrays).map(([name, [kind, values]]) => [name, kind, values.length]);
  let text = JSON.stringify({ ...head, arrays: list });
  text = text.padEnd(Math.ceil(text.length / 4) * 4);
  const parts = Object.values(arrays).map(([kind, values]) => (kind === "f4" ? Float32Array : Uint32Array).from(values));
  const bytes = [Uint32Array.of(text.length), new TextEncoder().encode(text), ...parts].map((part) => Buffer.from(part.buffer, part.byteOffset, part.byteLength));
  const all = Buffer.concat(bytes);
  return all.buffer.slice(all.byteOffset, all.byteOffset + all.byteLength);
}
