// Where each feature can hold the part, at the feature itself: pressing a direction there ticks it in the table.
import { Vector3 } from "three";

const REACH_PX = 52;
const HEAD_ON_PX = 8; // a direction that is seen shorter than this points at the eye
const ASIDE = [-0.6, 0.8]; // where its button is put then

export class Handles {
  constructor(stage) {
    this.stage = stage;
    this.layer = document.createElement("div");
    this.layer.className = "handles";
    this.layer.setAttribute("aria-hidden", "true"); // the table says the same to those who do not see the part
    stage.view.canvas.parentElement.append(this.layer);
    this.features = [];
    document.addEventListener("change", (event) => event.target.form === this.form && this.mirror());
  }

  // What the slip's table offers.
  follow() {
    const form = this.stage.slip.querySelector("form.mounted");
    if (form === this.form) return;
    this.form = form;
    this.features = (this.stage.drawing.holds ?? []).map((feature) => this.feature(feature));
    this.layer.replaceChildren(...this.features.map(({ knob }) => knob));
    this.mirror();
    this.stage.view.draw();
  }

  feature({ row, name, at, ways }) {
    const knob = document.createElement("div");
    knob.className = "handle";
    knob.innerHTML = '<svg><g></g></svg><i></i>';
    knob.querySelector("i").title = name;
    const arms = Object.entries(ways).map(([letter, way]) => {
      const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
      knob.querySelector("g").append(line);
      const button = document.createElement("button");
      Object.assign(button, { type: "button", tabIndex: -1, textContent: letter, title: `${name} holds in ${letter === "own" ? "its own way" : letter}` });
      button.addEventListener("click", () => this.box(row, letter)?.click());
      knob.append(button);
      return { letter, way: new Vector3(...way), line, button };
    });
    return { row, at: new Vector3(...at), knob, arms };
  }

  box(row, letter) {
    return this.form?.elements[`${row}.${letter}`];
  }

  mirror() {
    for (const { row, knob, arms } of this.features) {
      for (const { letter, line, button } of arms) {
        const held = Boolean(this.box(row, letter)?.checked);
        button.setAttribute("aria-pressed", String(held));
        line.classList.toggle("held", held);
      }
      knob.classList.toggle("holds", arms.some(({ letter }) => this.box(row, letter)?.checked));
    }
  }

  // The length of a part's way on paper is that of a fixed arm, so that it can be pressed at any zoom.
  place(view) {
    if (!this.features.length || !this.stage.ready) return;
    const { part, state } = this.stage;
    const step = view.box.min.distanceTo(view.box.max) / 20;
    for (const { row, at, knob, arms } of this.features) {
      const face = state.rows[row]?.face;
      const middle = face != null ? part.spot(face) : at;
      const [x, y] = view.onPaper(middle);
      knob.style.transform = `translate(${x}px, ${y}px)`;
      for (const { letter, way, line, button } of arms) {
        const [tx, ty] = view.onPaper(middle.clone().addScaledVector(way, letter === "own" ? -step : step)); // beside X, Y or Z along the same line
        const seen = Math.hypot(tx - x, ty - y);
        const headOn = (seen / (step * view.pxPerMm)) * REACH_PX < HEAD_ON_PX;
        const [i, j] = headOn ? ASIDE : [(tx - x) / seen, (ty - y) / seen];
        for (const [name, value] of [["x2", i * REACH_PX], ["y2", j * REACH_PX]]) line.setAttribute(name, value);
        button.style.transform = `translate(${i * REACH_PX}px, ${j * REACH_PX}px) translate(-50%, -50%)`;
      }
    }
  }
}
