// What lies on the part: hits, the tip, datum letters, dimension lines.
import { BufferAttribute, BufferGeometry, CanvasTexture, Group, LineBasicMaterial, LineSegments, Points, PointsMaterial, Vector3 } from "three";
import { LineMaterial } from "three/addons/lines/LineMaterial.js";
import { LineSegments2 } from "three/addons/lines/LineSegments2.js";
import { LineSegmentsGeometry } from "three/addons/lines/LineSegmentsGeometry.js";
import { CURRENT, HIT, INK, NEXT, WORST } from "./colors.js";

const LEAST_BALL_PX = 4;

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
    this.hits.material.onBeforeCompile = (shader) => {
      // a hit lies on its surface: a few millimetres toward the eye keep it from sinking in
      shader.vertexShader = shader.vertexShader.replace("#include <project_vertex>", "#include <project_vertex>\n gl_Position.z -= 0.0006;");
    };
    this.worst = this.points(ring, WORST, 24);
    this.tip = document.getElementById("tip");
    this.ring = this.tip.querySelector(".ring");
    this.ball = this.tip.querySelector(".ball");
    this.shaft = this.tip.querySelector(".shaft");
    this.tipAt = null;
    this.drawn = new LineSegments(new BufferGeometry(), new LineBasicMaterial({ color: INK, depthTest: false }));
    this.drawn.visible = false;
    this.drawn.renderOrder = 5;
    this.bold = new LineMaterial({ color: INK, linewidth: 4.5, depthTest: false });
    this.edge = new LineSegments2(new LineSegmentsGeometry(), this.bold); // the edge that was picked
    this.edge.visible = false;
    this.outline = new LineSegments2(new LineSegmentsGeometry(), new LineMaterial({ color: NEXT, linewidth: 3, depthTest: false, transparent: true, opacity: 0.75 }));
    this.outline.visible = false;
    this.outline.renderOrder = 3;
    this.lacking = new LineSegments2(new LineSegmentsGeometry(), new LineMaterial({ color: INK, linewidth: 2 }));
    this.lacking.visible = false;
    this.targets = this.points(ring, NEXT, 11);
    this.dots = this.points(dot, CURRENT, 6); // what belongs to it
    this.next = this.points(ring, NEXT, 30); // where the next hit tells the most
    this.group.add(this.hidden, this.hits, this.worst, this.drawn, this.edge, this.outline, this.lacking, this.targets, this.dots, this.next);
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
    this.showDrawn(row?.drawn);
  }

  // Lines of points: the ends of a distance, the arc of an angle, the outline of a made feature.
  showDrawn(lines) {
    this.drawn.visible = Boolean(lines?.length);
    if (!this.drawn.visible) return;
    const ends = lines.flatMap((line) => line.slice(1).flatMap((point, k) => [line[k], point]));
    this.drawn.geometry.dispose();
    this.drawn.geometry = new BufferGeometry().setFromPoints(ends.map((p) => new Vector3(...p)));
    this.drawn.geometry.computeBoundingSphere();
  }

  showEdge(line) {
    this.bolden(this.edge, line ? [line] : []);
  }

  // What is asked: its outline where it is no face, its targets, and where the next hit is best.
  showAhead(ahead) {
    this.bolden(this.outline, ahead?.lines ?? []);
    this.place(this.targets, ahead?.targets ?? []);
    this.place(this.dots, ahead?.dots ?? []);
    this.place(this.next, ahead?.next ? [ahead.next] : []);
  }

  // Strokes where light is lacking; hidden behind the part as the part itself is.
  showLacking(lines) {
    this.bolden(this.lacking, lines);
  }

  bolden(drawn, lines) {
    drawn.visible = lines.length > 0;
    if (!drawn.visible) return;
    drawn.geometry.dispose();
    drawn.geometry = new LineSegmentsGeometry();
    drawn.geometry.setPositions(lines.flatMap((line) => line.slice(1).flatMap((point, k) => [...line[k], ...point])));
  }

  // The tip moves thirty times a second: it is laid over the picture, which need not be drawn again.
  showTip(message, anywhere) {
    this.tipAt = message.tip && (message.aligned || anywhere) ? new Vector3(...message.tip) : null;
    this.axisAt = this.tipAt && new Vector3(...message.axis);
    this.radius = message.radius ?? 0;
    const away = Math.min(1, Math.abs(message.off ?? 0) / 60);
    const size = message.off === undefined ? 0 : 20 + 56 * away; // the ring closes as the tip comes near
    this.ring.setAttribute("r", size / 2);
  }

  placeTip(view) {
    this.tip.style.visibility = this.tipAt ? "visible" : "hidden";
    if (!this.tipAt) return;
    const [x, y] = view.onPaper(this.tipAt);
    const [ax, ay] = view.onPaper(this.axisAt);
    const radius = this.radius * view.pxPerMm;
    this.tip.style.transform = `translate(${x}px, ${y}px)`;
    this.ball.setAttribute("r", Math.max(LEAST_BALL_PX, radius)); // of its true size, where that can be seen
    for (const [name, value] of [["x2", ax - x], ["y2", ay - y], ["stroke-width", Math.max(3, radius)]]) this.shaft.setAttribute(name, value);
  }

  setLabels(labels) {
    this.tags.replaceChildren();
    this.labels = labels.map(({ at, text, className }) => {
      const span = document.createElement("span");
      span.textContent = text;
      if (className) span.className = className;
      this.tags.append(span);
      return { at, span, wide: span.offsetWidth, high: span.offsetHeight };
    });
  }

  placeLabels(view) {
    const placed = [];
    for (const { at, span, wide, high } of this.labels) {
      const [x, top] = view.onPaper(at);
      let y = top;
      // a tag that would lie on another gives way downward
      for (let tries = 0; tries < placed.length; tries++) {
        const other = placed.find((o) => Math.abs(o.x - x) < (o.wide + wide) / 2 && Math.abs(o.y - y) < (o.high + high) / 2);
        if (!other) break;
        y = other.y + (other.high + high) / 2 + 1;
      }
      placed.push({ x, y, wide, high });
      span.style.transform = `translate(${x}px, ${y}px) translate(-50%, -50%)`;
    }
  }
}
