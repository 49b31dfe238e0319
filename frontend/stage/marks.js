// What lies on the part: hits, the tip, datum letters, dimension lines.
import { BufferAttribute, BufferGeometry, CanvasTexture, Group, Line, LineBasicMaterial, Points, PointsMaterial, Sprite, SpriteMaterial, Vector3 } from "three";
import { HIT, INK, TIP, WORST } from "./colors.js";

function disc(hollow) {
  const canvas = document.createElement("canvas");
  canvas.width = canvas.height = 64;
  const pen = canvas.getContext("2d");
  pen.beginPath();
  pen.arc(32, 32, hollow ? 25 : 28, 0, 7);
  pen.lineWidth = hollow ? 9 : 6;
  pen.strokeStyle = "#fff";
  pen.fillStyle = "#fff";
  if (hollow) pen.stroke();
  else pen.fill();
  return new CanvasTexture(canvas);
}

export class Marks {
  constructor(scene, tags) {
    this.group = new Group();
    this.tags = tags;
    this.labels = [];
    const dot = disc(false);
    const ring = disc(true);
    this.hits = this.points(dot, HIT, 9);
    this.hidden = this.points(dot, HIT, 9, 0.22); // those behind the part, faintly
    this.hits.material.depthTest = true;
    this.worst = this.points(ring, WORST, 24);
    this.tip = new Sprite(new SpriteMaterial({ map: dot, color: TIP, sizeAttenuation: false, depthTest: false }));
    this.near = new Sprite(new SpriteMaterial({ map: ring, color: TIP, sizeAttenuation: false, depthTest: false }));
    this.ends = new Line(new BufferGeometry(), new LineBasicMaterial({ color: INK, depthTest: false }));
    this.tip.visible = this.near.visible = this.ends.visible = false;
    for (const mark of [this.tip, this.near, this.ends]) mark.renderOrder = 5;
    this.group.add(this.hidden, this.hits, this.worst, this.tip, this.near, this.ends);
    scene.add(this.group);
  }

  points(map, color, size, opacity = 1) {
    const material = new PointsMaterial({ map, color, size: size * devicePixelRatio, sizeAttenuation: false, transparent: true, opacity, alphaTest: 0.1, depthTest: false });
    const points = new Points(new BufferGeometry(), material);
    points.frustumCulled = false;
    points.renderOrder = 4;
    points.visible = false;
    return points;
  }

  place(points, rows) {
    points.visible = rows.length > 0;
    if (rows.length) {
      points.geometry.dispose();
      points.geometry = new BufferGeometry();
      points.geometry.setAttribute("position", new BufferAttribute(new Float32Array(rows.flat()), 3));
    }
  }

  showRow(row) {
    const hits = row?.hits ?? [];
    this.place(this.hits, hits);
    this.place(this.hidden, hits);
    this.place(this.worst, row?.worst == null || !hits.length ? [] : [hits[row.worst]]);
    this.showEnds(row?.ends);
  }

  showEnds(ends) {
    this.ends.visible = Boolean(ends);
    if (ends) this.ends.geometry = new BufferGeometry().setFromPoints(ends.map((p) => new Vector3(...p)));
  }

  showTip(message, pixel) {
    this.tip.visible = message.aligned;
    this.near.visible = message.aligned && message.off !== undefined;
    if (!message.aligned) return;
    this.tip.position.set(...message.tip);
    this.near.position.copy(this.tip.position);
    const away = Math.min(1, Math.abs(message.off ?? 0) / 60);
    this.tip.scale.setScalar(11 * pixel);
    this.near.scale.setScalar((18 + 60 * away) * pixel); // the ring closes as the tip comes near
  }

  setLabels(labels) {
    this.tags.replaceChildren();
    this.labels = labels.map(({ at, text, className }) => {
      const span = document.createElement("span");
      span.textContent = text;
      if (className) span.className = className;
      this.tags.append(span);
      return { at, span };
    });
  }

  placeLabels(camera, width, height) {
    for (const { at, span } of this.labels) {
      const p = at.clone().project(camera);
      span.style.transform = `translate(${((p.x + 1) / 2) * width}px, ${((1 - p.y) / 2) * height}px) translate(-50%, -50%)`;
    }
  }
}
