// A dimension as a drawing has it: extension lines from what it is of, the dimension line with its arrows beside the part, and its
// value large enough to read. What it is of is given in the part; it follows the eye.
import { Vector3 } from "three";

const AWAY_PX = 44; // of the dimension line from what it is of
const BEYOND_PX = 8; // that an extension line goes beyond it
const GAP_PX = 4; // between the part and its extension line
const ARROW_PX = 12;
const SHORT_PX = 30; // shorter ones have their arrows outside
const LETTER_PX = [7.5, 13]; // half the width of a letter of the value, and half its height
const NS = "http://www.w3.org/2000/svg";

const plus = ([x, y], [u, v], by = 1) => [x + by * u, y + by * v];
const minus = ([x, y], [u, v]) => [x - u, y - v];
const size = ([x, y]) => Math.hypot(x, y);
const unit = (v) => (size(v) > 1e-6 ? [v[0] / size(v), v[1] / size(v)] : [1, 0]);
const middle = (a, b) => [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
const path = (...points) => `M${points.map((p) => p.map((v) => v.toFixed(1)).join(" ")).join("L")}`;

function arrow(tip, along) {
  const side = [-along[1], along[0]];
  const back = plus(tip, along, -ARROW_PX);
  return `${path(tip, plus(back, side, ARROW_PX / 4), plus(back, side, -ARROW_PX / 4))}Z`;
}

// Of a length between two places on the paper; ``center``: of the part there, away from which it is drawn.
export function ofLength(a, b, center) {
  const along = unit(minus(b, a));
  let out = [-along[1], along[0]];
  const from = minus(middle(a, b), center);
  if (out[0] * from[0] + out[1] * from[1] < 0) out = [-out[0], -out[1]];
  const [c, d] = [plus(a, out, AWAY_PX), plus(b, out, AWAY_PX)];
  const extension = [a, b].map((p) => path(plus(p, out, GAP_PX), plus(p, out, AWAY_PX + BEYOND_PX)));
  const short = size(minus(b, a)) < SHORT_PX;
  const arrows = short
    ? [arrow(c, along), arrow(d, [-along[0], -along[1]])]
    : [arrow(c, [-along[0], -along[1]]), arrow(d, along)];
  const line = short ? path(plus(c, along, -2 * ARROW_PX), plus(d, along, 2 * ARROW_PX)) : path(c, d);
  return { lines: [...extension, line], arrows, at: middle(c, d), out };
}

// Of an angle, along its arc on the paper.
export function ofAngle(arc) {
  const at = arc[Math.floor(arc.length / 2)];
  const out = unit(minus(at, middle(arc[0], arc.at(-1))));
  const arrows = [arrow(arc[0], unit(minus(arc[0], arc[1]))), arrow(arc.at(-1), unit(minus(arc.at(-1), arc.at(-2))))];
  return { lines: [path(...arc)], arrows, at, out };
}

// Where the value stands: beside its line, not on it.
export function besides(at, out, value) {
  return plus(at, out, GAP_PX + LETTER_PX[0] * value.length * Math.abs(out[0]) + LETTER_PX[1] * Math.abs(out[1]));
}

export class Dimension {
  constructor(stage) {
    this.stage = stage;
    this.paper = document.createElementNS(NS, "svg");
    this.paper.id = "dimension";
    this.paper.setAttribute("aria-hidden", "true");
    document.getElementById("tags").after(this.paper);
    this.shown = null;
  }

  // ``lines`` of the drawing, in the part; the first with two places, or the arc, is what is dimensioned. Null: nothing.
  show(lines, value) {
    const arc = lines?.find((line) => line.length > 2);
    const length = lines?.find((line) => line.length === 2);
    this.shown = value && (arc ?? length) ? { points: (arc ?? length).map((p) => new Vector3(...p)), value } : null;
    this.place();
  }

  place() {
    this.paper.replaceChildren();
    if (!this.shown) return;
    const { view } = this.stage;
    const points = this.shown.points.map((p) => view.onPaper(p));
    const center = view.onPaper(view.box.getCenter(new Vector3()));
    const { lines, arrows, at, out } = points.length > 2 ? ofAngle(points) : ofLength(points[0], points[1], center);
    const add = (name, attributes, words = "") => {
      const element = document.createElementNS(NS, name);
      for (const [key, set] of Object.entries(attributes)) element.setAttribute(key, set);
      element.textContent = words;
      this.paper.append(element);
    };
    for (const d of lines) add("path", { d, class: "line" });
    for (const d of arrows) add("path", { d, class: "arrow" });
    const text = besides(at, out, this.shown.value);
    const within = (v, most) => Math.min(most - 20, Math.max(20, v));
    add("text", { x: within(text[0], view.wide), y: within(text[1], view.high) }, this.shown.value);
  }
}
