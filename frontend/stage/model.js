// The packed CAD model (docs/formats.md) as meshes per body, with a face for every triangle.
import { Box3, BufferAttribute, BufferGeometry, DoubleSide, Line3, LineBasicMaterial, LineSegments, Mesh, MeshLambertMaterial, Triangle, Vector3 } from "three";
import { acceleratedRaycast, MeshBVH } from "three-mesh-bvh";
import { LineMaterial } from "three/addons/lines/LineMaterial.js";
import { LineSegments2 } from "three/addons/lines/LineSegments2.js";
import { LineSegmentsGeometry } from "three/addons/lines/LineSegmentsGeometry.js";
import { BASE, INK, MOVABLE } from "./colors.js";

const KINDS = { f4: Float32Array, u4: Uint32Array };

export function unpack(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  let at = 4 + length;
  const model = { ...head };
  for (const [name, kind, size] of head.arrays) {
    model[name] = new KINDS[kind](buffer, at, size);
    at += 4 * size;
  }
  return model;
}

export class PartModel {
  // ``thin``: edges as lines of one pixel, which cost a third where the processor draws.
  constructor(model, kept, movable, thin) {
    this.model = model;
    this.thin = thin;
    this.only = kept;
    this.movable = new Set(movable);
    this.faces = model.faces;
    this.colors = new Float32Array(model.positions.length);
    for (let i = 0; i < this.colors.length; i += 3) BASE.toArray(this.colors, i);
    const position = new BufferAttribute(model.positions, 3);
    const normal = new BufferAttribute(model.normals, 3);
    this.color = new BufferAttribute(this.colors, 3);
    this.material = new MeshLambertMaterial({ vertexColors: true, side: DoubleSide, polygonOffset: true, polygonOffsetFactor: 1.5, polygonOffsetUnits: 2 });
    this.ink = thin ? new LineBasicMaterial({ color: INK }) : new LineMaterial({ color: INK, linewidth: 1.3 });
    this.bodies = model.bodies.map((body) => {
      const faces = this.faces.filter((face) => face.body === body.index);
      const [first, last] = [faces[0].index, faces[faces.length - 1].index];
      const [from, to] = [3 * model.face_triangles[first], 3 * model.face_triangles[last + 1]];
      const geometry = new BufferGeometry();
      geometry.setAttribute("position", position);
      geometry.setAttribute("normal", normal);
      geometry.setAttribute("color", this.color);
      geometry.setIndex(new BufferAttribute(model.triangles.subarray(from, to), 1));
      const mesh = new Mesh(geometry, this.material);
      mesh.userData.firstTriangle = from / 3;
      mesh.raycast = acceleratedRaycast;
      const lines = this.edges(body.index);
      mesh.visible = lines.visible = this.kept(body.index);
      return { mesh, lines };
    });
  }

  edges(body) {
    const { edge_points: points, edge_starts: starts, edge_bodies: bodies } = this.model;
    const pairs = [];
    for (let e = 0; e < bodies.length; e++) {
      if (bodies[e] !== body) continue;
      for (let k = starts[e]; k + 1 < starts[e + 1]; k++)
        pairs.push(points[3 * k], points[3 * k + 1], points[3 * k + 2], points[3 * k + 3], points[3 * k + 4], points[3 * k + 5]);
    }
    if (this.thin) return new LineSegments(new BufferGeometry().setAttribute("position", new BufferAttribute(new Float32Array(pairs), 3)), this.ink);
    const geometry = new LineSegmentsGeometry();
    geometry.setPositions(pairs.length ? pairs : [0, 0, 0, 0, 0, 0]);
    return new LineSegments2(geometry, this.ink);
  }

  // The edge nearest to a place on a face, by its number; null where none is within some mm.
  edgeNear(place, within) {
    const { edge_points: points, edge_starts: starts, edge_bodies: bodies } = this.model;
    const [a, b, foot, segment] = [new Vector3(), new Vector3(), new Vector3(), new Line3()];
    let [nearest, best] = [within, null];
    for (let e = 0; e < bodies.length; e++) {
      if (!this.bodies[bodies[e]].mesh.visible) continue;
      for (let k = starts[e]; k + 1 < starts[e + 1]; k++) {
        segment.set(a.fromArray(points, 3 * k), b.fromArray(points, 3 * k + 3)).closestPointToPoint(place, true, foot);
        const far = foot.distanceTo(place);
        if (far < nearest) [nearest, best] = [far, e];
      }
    }
    return best;
  }

  edgeLine(edge) {
    const { edge_points: points, edge_starts: starts } = this.model;
    return Array.from({ length: starts[edge + 1] - starts[edge] }, (_, k) => [...points.subarray(3 * (starts[edge] + k), 3 * (starts[edge] + k + 1))]);
  }

  kept(body) {
    return !this.only || this.only.includes(body);
  }

  // All bodies, those that are moved alone, or what they stand on alone.
  apart(which) {
    for (const { index } of this.model.bodies) this.show(index, this.kept(index) && (!which || this.movable.has(index) === (which === "details")));
  }

  show(body, visible) {
    this.bodies[body].mesh.visible = this.bodies[body].lines.visible = visible;
  }

  // Of the bodies that are shown.
  box() {
    const box = new Box3();
    for (const face of this.faces)
      if (this.bodies[face.body].mesh.visible) box.union(new Box3(new Vector3(...face.box.slice(0, 3)), new Vector3(...face.box.slice(3))));
    return box;
  }

  // Of every body its tree of boxes, by which rays are quick (300,000 triangles: 0.6 s to make, then 0.1 ms a ray in place of
  // 90). The triangles stay in their order, which tells the face of each.
  prepare() {
    for (const { mesh } of this.bodies) mesh.geometry.boundsTree ??= new MeshBVH(mesh.geometry, { indirect: true });
  }

  // What a ray meets first of the bodies that are shown.
  hitBy(ray) {
    this.prepare();
    const [hit] = ray.intersectObjects(this.bodies.map(({ mesh }) => mesh).filter((mesh) => mesh.visible));
    return hit;
  }

  faceOf(hit) {
    const triangle = hit.object.userData.firstTriangle + hit.faceIndex;
    const starts = this.model.face_triangles;
    let low = 0;
    let high = starts.length - 1;
    while (high - low > 1) {
      const middle = (low + high) >> 1;
      if (starts[middle] <= triangle) low = middle;
      else high = middle;
    }
    return low;
  }

  // Tints: a map from face index to colour; all other faces stand in the base colour.
  tint(colors) {
    const { triangles, face_triangles: starts } = this.model;
    for (let i = 0; i < this.colors.length; i += 3) BASE.toArray(this.colors, i);
    const moved = this.faces.filter((face) => this.movable.has(face.body)).map((face) => [face.index, MOVABLE]);
    for (const [face, color] of [...moved, ...colors]) {
      if (face == null || face >= this.faces.length) continue;
      for (let k = 3 * starts[face]; k < 3 * starts[face + 1]; k++) color.toArray(this.colors, 3 * triangles[k]);
    }
    this.color.needsUpdate = true;
  }

  // Middles of some of a face's triangles, all over it.
  places(face, most) {
    const { positions, triangles, face_triangles: starts } = this.model;
    const [first, count] = [starts[face], starts[face + 1] - starts[face]];
    const corner = new Vector3();
    return Array.from({ length: Math.min(most, count) }, (_, k) => {
      const t = first + Math.floor((k * count) / Math.min(most, count));
      const middle = new Vector3();
      for (let c = 0; c < 3; c++) middle.add(corner.fromArray(positions, 3 * triangles[3 * t + c]));
      return middle.divideScalar(3);
    });
  }

  // Where a label lies on a face: the middle of its largest triangle, which a hole cannot take away.
  spot(face) {
    const { positions, triangles, face_triangles: starts } = this.model;
    let [largest, best] = [-1, new Vector3()];
    const [a, b, c] = [new Vector3(), new Vector3(), new Vector3()];
    for (let t = starts[face]; t < starts[face + 1]; t++) {
      [a, b, c].forEach((corner, k) => corner.fromArray(positions, 3 * triangles[3 * t + k]));
      const area = new Triangle(a, b, c).getArea();
      if (area > largest) [largest, best] = [area, a.clone().add(b).add(c).divideScalar(3)];
    }
    return best;
  }
}
