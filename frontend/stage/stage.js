// The stage: the part like a plate in a manual, and what is touched on it.
import { byKeys } from "./byKeys.js";
import { Box3, Vector3 } from "three";
import { say } from "../notices.js";
import { clicks } from "./clicks.js";
import { Cloud } from "./cloud.js";
import { ALIKE, CHOSEN, CURRENT, PICKED, PLANNED, UNSEEN, WORDS } from "./colors.js";
import { Dimension } from "./dimension.js";
import { drawingOf } from "./drawing.js";
import { Handles } from "./handles.js";
import { Known } from "./known.js";
import { Lacking } from "./lacking.js";
import { Marks } from "./marks.js";
import { PartModel, unpack } from "./model.js";
import { Painted } from "./painted.js";
import { pointing } from "./pointing.js";
import { settled } from "./settled.js";
import { Tagged } from "./tagged.js";
import { lookRound } from "./tools/stand.js";
import { rememberLooks } from "./tools/look.js";
import { View } from "./view.js";

const MOST_NAMES = 12; // of chosen rows beside their places
const NOTHING_PICKED = { face: null, edge: null, at: null };
const BARE_BOX = new Box3(new Vector3(-150, -150, -50), new Vector3(150, 150, 50)); // where nothing is known yet

// How soon is drawn, in ms: when nothing came for a moment, at the latest, and the tip. Without a graphics card a frame
// costs tenths of a second: then words must not wait for pictures.
const PACE = { quick: { quiet: 60, latest: 60, tip: 0 }, slow: { quiet: 250, latest: 2000, tip: 150 } };

export class Stage {
  constructor(bench) {
    this.base = `/jobs/${bench.dataset.job}`;
    this.slip = document.getElementById("slip");
    this.about = JSON.parse(document.getElementById("about").textContent);
    this.unit = this.about.unit;
    this.state = this.about.scene;
    this.drawing = drawingOf(this.slip);
    this.ready = false;
    this.picked = NOTHING_PICKED;
    this.pointed = { faces: [], lines: null, value: "" }; // of what is pointed at in the page
    this.chosen = new Set(); // ids of rows
    this.order = this.state.order;
    try {
      this.view = new View(document.getElementById("canvas"), () => this.over());
      byKeys(this.view);
    } catch {
      document.getElementById("stage").insertAdjacentHTML("afterbegin", '<p class="empty">This browser draws no 3D. The run sheet and the Now band work all the same.</p>');
    }
    this.pace = this.view?.slow ? PACE.slow : PACE.quick;
    this.paintSoon = settled(() => this.ready && this.paint(), this.pace.quiet, this.pace.latest);
    if (!this.view) return;
    this.marks = new Marks(this.view.scene, document.getElementById("tags"));
    this.view.resized = (width, height) => {
      this.part?.ink.resolution?.set(width, height);
      this.marks.bold.resolution.set(width, height);
    };
    this.known = new Known(this);
    this.handles = new Handles(this);
    this.dimension = new Dimension(this);
    this.cloud = new Cloud(this.view, (box) => this.alone(box), new Lacking(this.marks));
    this.painted = new Painted(this.view);
    this.tagged = new Tagged(this);
    clicks(this);
    pointing(this);
    rememberLooks(this.slip);
    this.listen();
    this.load(bench.dataset.model);
  }

  async load(address) {
    try {
      const response = await fetch(address);
      if (!response.ok) throw new Error(response.statusText);
      this.part = new PartModel(unpack(await response.arrayBuffer()), this.about.kept, this.about.movable, this.view.slow);
    } catch {
      say("The part could not be drawn. The run sheet works all the same. Load the page again to try once more.");
      return;
    }
    for (const { mesh, lines } of this.part.bodies) this.view.scene.add(mesh, lines);
    this.view.box.copy(this.part.box());
    this.bare = !this.part.faces.length;
    if (this.bare) this.enclose();
    this.view.resize();
    this.view.look("iso");
    this.ready = true;
    this.follow();
    requestIdleCallback(() => this.part.prepare()); // before somebody points at it
  }

  // With no CAD the hits are all that there is to see. Whether they reach farther than what was seen.
  enclose() {
    const { box } = this.view;
    const before = box.clone();
    const hits = Object.values(this.state.rows).flatMap((row) => row.hits ?? []);
    for (const hit of hits) box.expandByPoint(new Vector3(...hit));
    if (box.isEmpty()) box.copy(BARE_BOX);
    this.found = hits.length > 0;
    return !box.equals(before);
  }

  // Until the part is aligned, what was scanned is seen by itself, where it lies in the world.
  alone(box) {
    if (!this.ready || this.bare || (!box && !this.onlyScan)) return;
    const seen = this.onlyScan;
    this.onlyScan = box?.clone() ?? null;
    for (const { mesh, lines } of this.part.bodies) mesh.visible = lines.visible = !box;
    if (seen?.containsBox(box ?? new Box3()) && box) return;
    this.view.box.copy(box ?? this.part.box());
    this.view.look(box ? "top" : "iso");
  }

  // What is seen, as data: from where, which bodies, and whose map (docs/formats.md).
  seen() {
    const { camera, controls, wide, high } = this.view;
    const up = new Vector3().setFromMatrixColumn(camera.matrixWorld, 1);
    const eye = camera.position.clone().sub(controls.target).normalize();
    const bodies = this.part.model.bodies.map(({ index }) => index).filter((index) => this.part.bodies[index].mesh.visible);
    return {
      camera: { eye: eye.toArray(), up: up.toArray(), middle: controls.target.toArray(), half_mm: camera.top / camera.zoom },
      shape: wide / high,
      bodies: bodies.length === this.part.bodies.length ? null : bodies,
      map: this.mapped === null ? null : Number(this.mapped),
    };
  }

  // ---- what stands on it --------------------------------------------------------------

  // Words go first: the picture follows a moment later, once for all that came meanwhile.
  update(scene) {
    const standing = scene.order && new Set(scene.order); // told where rows came, went or moved
    this.order = scene.order ?? this.order;
    const rows = { ...this.state.rows, ...scene.rows };
    this.state = { ...scene, rows: Object.fromEntries(Object.entries(rows).filter(([id]) => !standing || standing.has(id))) };
    this.paintSoon();
  }

  // What the slip wants drawn may be another thing.
  follow() {
    this.drawing = drawingOf(this.slip);
    if (!this.ready) return;
    if (this.drawing.movable) this.part.movable = new Set(this.drawing.movable);
    this.handles.follow();
    this.tagged.follow();
    const wanted = JSON.stringify(this.drawing);
    if (wanted === this.wanted) return;
    this.wanted = wanted;
    this.paint();
  }

  choose(ids) {
    this.chosen = new Set(ids);
    if (this.ready) this.paintSoon();
  }

  rowsOf(face) {
    return this.order.filter((id) => this.state.rows[id]?.face === face);
  }

  // ``lines``: drawn in the place of the row's own; ``dimension`` with ``value``: as a drawing has it.
  pointAt(pointed) {
    if (JSON.stringify(pointed) === JSON.stringify(this.pointed)) return;
    this.pointed = pointed;
    this.paint();
  }

  paint() {
    const { rows, current, ahead } = this.state;
    const { selected, ahead: asked, scan } = this.drawing;
    this.part.tint(this.tints());
    const shown = rows[selected ?? current] ?? rows[current];
    this.marks.showRow(this.bare ? { ...shown, worst: null, hits: Object.values(rows).flatMap((row) => row.hits ?? []) } : shown);
    if (this.bare) {
      if (!this.found) this.view.box.makeEmpty(); // what was shown was a guess
      if (this.enclose()) this.view.look("iso");
    }
    if (scan === null) this.cloud.show(this.base, String(rows[selected] ? selected : current), shown);
    else this.cloud.show(this.base, String(scan), rows[scan]);
    this.painted.show(this.base, String(this.mapped), rows[this.mapped]?.map);
    const { lines, dots, dimension, value } = this.pointed;
    if (lines) this.marks.showDrawn(lines);
    // a dimension that is opened stands on the part, until another is pointed at
    if (value) this.dimension.show(dimension, value);
    else this.dimension.show(shown?.value ? shown.drawn : null, shown?.value);
    this.marks.showAhead(dots ? { dots } : asked ?? (selected == null || selected === current ? ahead : null));
    this.marks.showEdge(this.picked.edge != null ? this.part.edgeLine(this.picked.edge) : null);
    this.marks.setLabels(this.labels());
    this.view.draw();
  }

  // The row whose map is shown, where there is one: of a pin, that on which it stands.
  get mapped() {
    const { rows, current } = this.state;
    const shown = rows[this.drawing.selected] ? this.drawing.selected : current;
    const row = rows[shown]?.pinned ?? shown;
    return rows[row]?.map ? row : null;
  }

  // Of a mesh only the place was meant, not all of it.
  get wholeBody() {
    return this.part.faces[this.picked.face]?.surface === "mesh";
  }

  tints() {
    const { rows, current } = this.state;
    const tints = new Map(this.mapped === null ? [] : this.part.faces.map((_, face) => [face, UNSEEN])); // the map paints it
    for (const { face, word } of Object.values(rows)) if (face != null && !tints.has(face)) tints.set(face, WORDS[word] ?? PLANNED);
    if (rows[current]?.face != null && this.mapped === null) tints.set(rows[current].face, CURRENT);
    for (const id of this.chosen) if (rows[id]?.face != null) tints.set(rows[id].face, CHOSEN);
    for (const face of [...this.drawing.alike, ...this.pointed.faces]) tints.set(face, ALIKE);
    if (this.picked.face != null && !this.wholeBody) tints.set(this.picked.face, PICKED);
    return tints;
  }

  // What the slip wants marked, else the faces that would be planned together, else datum letters and where was picked.
  labels() {
    const { labels, alike } = this.drawing;
    if (labels.length) return labels.map(({ at, ...rest }) => ({ at: new Vector3(...at), ...rest }));
    if (alike.length) return alike.map((face, k) => ({ at: this.part.spot(face), text: String(k + 1) }));
    if (this.chosen.size) return this.chosenLabels();
    if (this.mapped !== null) return this.pinLabels();
    const datums = Object.values(this.state.rows).filter((row) => row.datum && row.face != null);
    const letters = datums.map((row) => ({ at: this.part.spot(row.face), text: row.datum }));
    return this.wholeBody && this.picked.at ? [...letters, { at: this.picked.at, text: "here" }] : letters;
  }

  // What the map that is shown has pinned.
  pinLabels() {
    const pins = Object.values(this.state.rows).filter((row) => row.pinned === String(this.mapped) && row.hits?.length);
    return pins.slice(0, MOST_NAMES).map((row) => ({ at: new Vector3(...row.hits[0]), text: row.name, className: "small" }));
  }

  // The names of what is chosen, where they can be read.
  chosenLabels() {
    const there = [...this.chosen].map((id) => this.state.rows[id]).filter(Boolean);
    if (there.length > MOST_NAMES) return [];
    const at = ({ face, hits }) => (face != null ? this.part.spot(face) : hits?.length ? new Vector3(...hits[0]) : null);
    return there.map((row) => ({ at: at(row), text: row.name })).filter((label) => label.at);
  }

  // What lies over the picture.
  over() {
    this.marks.placeLabels(this.view);
    this.marks.placeTip(this.view);
    this.handles.place(this.view);
    this.dimension.place();
    this.tagged?.drawn();
  }

  // Tips come faster than frames do: only the latest is shown.
  tip(message) {
    this.latestTip = message;
    this.tipWaiting ??= setTimeout(() => {
      requestAnimationFrame(() => {
        this.tipWaiting = null;
        this.showTip(this.latestTip);
      });
    }, this.pace.tip);
  }

  showTip(message) {
    document.getElementById("tip-line").textContent = message.text;
    for (const [id, text] of [["tip-now", message.text], ["live-off", message.off_text], ["live-to", message.to_text ?? ""]]) {
      const shown = document.getElementById(id);
      if (shown && text !== undefined && shown.textContent !== text) shown.textContent = text;
    }
    if (!this.ready) return;
    this.marks.showTip(message, this.bare);
    this.marks.placeTip(this.view);
  }

  // ---- what the page's buttons show ---------------------------------------------------

  listen() {
    document.addEventListener("htmx:afterSwap", () => this.follow());
    document.addEventListener("click", ({ target }) => {
      const { view, look, apart } = target.dataset;
      if (!this.ready) return;
      if (view) this.view.look(view);
      if (look) this.through(target);
      if (apart !== undefined) this.show(() => this.part.apart(apart));
    });
    document.addEventListener("change", ({ target }) => {
      const { tool, body } = target.dataset;
      if (!this.ready) return;
      if (tool === "stand") lookRound(this.view);
      if (body !== undefined) this.show(() => this.part.show(Number(body), target.checked));
    });
  }

  show(change) {
    change();
    this.view.draw();
  }

  through(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    this.show(() => Object.assign(this.part.material, { transparent: on, opacity: on ? 0.35 : 1, depthWrite: !on, needsUpdate: true }));
  }
}
