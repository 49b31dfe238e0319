// Tags over the stage while a report is put together: laid out by the server once the view rests, and tied to their places while
// one turns.
import { Vector3 } from "three";
import { asked, seenNow } from "../report.js";
import { settled } from "./settled.js";
import { FILLED } from "./view.js";

const SVG = "http://www.w3.org/2000/svg";
const QUIET_MS = 180;
const BESIDE_TAGS = { across: 0.56, upward: 0.7 }; // of the paper by the part

export class Tagged {
  constructor(stage) {
    this.stage = stage;
    this.over = stage.view.canvas.parentElement.appendChild(document.createElementNS(SVG, "svg"));
    this.over.setAttribute("class", "over-tags");
    this.over.setAttribute("aria-hidden", "true"); // the sheet says the same
    this.tags = [];
    this.ask = settled(() => this.fetch(), QUIET_MS, Infinity);
    for (const come of ["change", "input"]) document.addEventListener(come, ({ target }) => target.form?.id === "tags-asked" && this.ask());
    document.addEventListener("zipplumb:update", () => this.wanted && this.ask());
  }

  get wanted() {
    return Boolean(asked()?.elements.tagged.checked);
  }

  // The page's form came or went.
  follow() {
    if (this.wanted || this.tags.length) this.ask();
  }

  // They stand beside the part, which makes room for them.
  makeRoom() {
    const filled = this.wanted ? BESIDE_TAGS : FILLED;
    if (this.stage.view.filled === filled) return;
    this.stage.view.filled = filled;
    if (this.stage.ready) this.stage.view.fit();
  }

  async fetch() {
    this.makeRoom();
    if (!this.wanted || !this.stage.ready) return this.tell([], "");
    const { shows, ...values } = seenNow(this.stage);
    const query = new URLSearchParams({ ...values, high: this.stage.view.high });
    for (const each of shows) query.append("shows", each);
    this.asking = String(query);
    const response = await fetch(`${this.stage.base}/pictures/tags?${query}`, { headers: { Accept: "application/json" } }).catch(() => null);
    if (this.asking !== String(query)) return; // something else was asked for meanwhile
    const { tags = [], left_out: leftOut = 0 } = response?.ok && this.wanted ? await response.json() : {};
    this.tell(tags, leftOut ? `${leftOut} more found no room: choose fewer.` : tags.length ? "" : "No row is seen that a tag was asked for.");
  }

  tell(tags, words) {
    this.show(tags);
    const told = document.getElementById("tags-told");
    if (told) told.textContent = words;
  }

  show(tags) {
    this.over.replaceChildren();
    this.tags = tags.map(({ at, box: [x, y, wide, high], port, text, word, hidden }) => {
      const group = this.over.appendChild(document.createElementNS(SVG, "g"));
      group.setAttribute("class", `tag ${word.replace(" ", "-")}${hidden ? " hidden-place" : ""}`);
      const line = make(group, "path", {});
      make(group, "rect", { x, y, width: wide, height: high, rx: 3 });
      make(group, "text", { x: x + wide / 2, y: y + high / 2 }).textContent = text;
      return { at: new Vector3(...at), port, line };
    });
    this.place();
  }

  // Their places move with the picture; where they stand is laid out anew once it rests.
  place() {
    for (const { at, port, line } of this.tags) {
      const [x, y] = this.stage.view.onPaper(at);
      line.setAttribute("d", `M${port[0]} ${port[1]}L${x.toFixed(1)} ${y.toFixed(1)}m-3 0a3 3 0 1 0 6 0a3 3 0 1 0 -6 0`);
    }
  }

  drawn() {
    this.place();
    const { position, zoom } = this.stage.view.camera;
    const from = [...position.toArray(), zoom, this.stage.view.wide].join();
    if (from === this.from) return;
    this.from = from;
    if (this.wanted) this.ask();
  }
}

function make(group, kind, attributes) {
  const made = group.appendChild(document.createElementNS(SVG, kind));
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  return made;
}
