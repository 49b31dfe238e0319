// The stage: the part like a plate in a manual, and what is touched on it.
import { AmbientLight, Box3, DirectionalLight, OrthographicCamera, Raycaster, Scene, Vector2, Vector3, WebGLRenderer } from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import htmx from "htmx.org";
import { addAdjuster } from "./adjusters.js";
import { ALIKE, CURRENT, PICKED, PLANNED, WORDS } from "./colors.js";
import { Handles } from "./handles.js";
import { Marks } from "./marks.js";
import { say } from "../notices.js";
import { Known } from "./known.js";
import { aim, rememberLooks } from "./looks.js";
import { PartModel, unpack } from "./model.js";
import { lookRound, standThere } from "./stand.js";
import { settled } from "./settled.js";
import { Sway } from "./sway.js";

const EDGE_PX = 9; // so near to an edge, it may be meant
const VIEWS = { iso: [-0.62, -1, 0.62], front: [0, -1, 0.0001], back: [0, 1, 0.0001], side: [1, 0, 0.0001], top: [0, -0.0001, 1] };

// How soon is drawn, in ms: when nothing came for a moment, at the latest, and the tip. Without a graphics card a frame
// costs tenths of a second: then words must not wait for pictures.
const PACE = { quick: { quiet: 60, latest: 60, tip: 0 }, slow: { quiet: 250, latest: 2000, tip: 150 } };

function drawnInSoftware(gl) {
  const names = gl.getExtension("WEBGL_debug_renderer_info");
  return /swiftshader|llvmpipe|software/i.test(names ? gl.getParameter(names.UNMASKED_RENDERER_WEBGL) : "");
}

export class Stage {
  constructor(bench) {
    this.bench = bench;
    this.base = `/jobs/${bench.dataset.job}`;
    this.canvas = document.getElementById("canvas");
    this.about = JSON.parse(document.getElementById("about").textContent);
    this.state = this.about.scene;
    this.ready = false;
    this.picked = null;
    this.selected = null;
    this.edge = null; // where the part was picked
    this.alike = []; // faces that would be planned together
    this.pointed = []; // faces of the row that is pointed at
    try {
      this.renderer = new WebGLRenderer({ canvas: this.canvas, antialias: true, alpha: true, preserveDrawingBuffer: true });
    } catch {
      document.getElementById("stage").insertAdjacentHTML("afterbegin", '<p class="empty">This browser draws no 3D. The run sheet and the Now band work all the same.</p>');
      return;
    }
    this.slow = drawnInSoftware(this.renderer.getContext());
    this.pace = this.slow ? PACE.slow : PACE.quick;
    this.paintSoon = settled(() => this.ready && this.paint(), this.pace.quiet, this.pace.latest);
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
    this.scene = new Scene();
    this.camera = new OrthographicCamera(-1, 1, 1, -1, -10000, 10000);
    this.camera.up.set(0, 0, 1);
    this.scene.add(new AmbientLight("#fff6e6", 2.1));
    for (const [at, strength] of [[[-0.5, -1, 1.4], 1.25], [[1, 0.4, 0.3], 0.35]]) {
      const light = new DirectionalLight("#fffaf0", strength);
      light.position.set(...at);
      this.scene.add(light);
    }
    this.controls = new OrbitControls(this.camera, this.canvas);
    this.controls.addEventListener("change", () => this.draw());
    this.marks = new Marks(this.scene, document.getElementById("tags"));
    new ResizeObserver(() => this.resize()).observe(this.canvas.parentElement);
    this.sway = new Sway(this);
    this.known = new Known(this);
    this.handles = new Handles(this);
    this.listen();
    this.load();
  }

  async load() {
    try {
      const response = await fetch(this.bench.dataset.model);
      if (!response.ok) throw new Error(response.statusText);
      this.part = new PartModel(unpack(await response.arrayBuffer()), this.about.kept, this.about.movable, this.slow);
    } catch {
      say("The part could not be drawn. The run sheet works all the same. Load the page again to try once more.");
      return;
    }
    for (const { mesh, lines } of this.part.bodies) this.scene.add(mesh, lines);
    this.box = new Box3();
    for (const face of this.part.faces)
      if (this.part.bodies[face.body].mesh.visible)
        this.box.union(new Box3(new Vector3(...face.box.slice(0, 3)), new Vector3(...face.box.slice(3))));
    this.bare = !this.part.faces.length;
    if (this.bare) this.enclose();
    this.resize();
    this.look("iso");
    this.ready = true;
    this.handles.follow();
    this.paint();
  }

  // With no CAD the hits are all that there is to see. Whether they reach farther than what was seen.
  enclose() {
    const before = this.box.clone();
    for (const row of Object.values(this.state.rows)) for (const hit of row.hits ?? []) this.box.expandByPoint(new Vector3(...hit));
    if (this.box.isEmpty()) this.box.set(new Vector3(-150, -150, -50), new Vector3(150, 150, 50));
    this.found = Object.values(this.state.rows).some((row) => row.hits?.length);
    return !this.box.equals(before);
  }

  // ---- looking ------------------------------------------------------------------------

  look(name) {
    const size = this.box.getSize(new Vector3()).length() / 2;
    const middle = this.box.getCenter(new Vector3());
    this.controls.target.copy(middle);
    this.camera.position.copy(middle).addScaledVector(new Vector3(...VIEWS[name]).normalize(), 2 * size);
    this.camera.zoom = 1;
    this.controls.update();
    this.fit();
    this.draw();
  }

  resize() {
    const { clientWidth: width, clientHeight: height } = this.canvas.parentElement;
    if (!width || !height) return;
    [this.wide, this.high] = [width, height];
    this.renderer.setSize(width, height, false);
    this.part?.ink.resolution?.set(width, height);
    this.marks.bold.resolution.set(width, height);
    if (this.ready || this.box) this.fit();
  }

  // The whole part as it is seen now, with a margin, and clear of the words above and below it.
  fit() {
    const { wide: width, high: height } = this;
    this.camera.updateMatrixWorld();
    const seen = new Box3();
    for (let k = 0; k < 8; k++) {
      const corner = new Vector3(...[0, 1, 2].map((a) => (k & (1 << a) ? this.box.max : this.box.min).getComponent(a)));
      seen.expandByPoint(corner.applyMatrix4(this.camera.matrixWorldInverse));
    }
    const size = seen.getSize(new Vector3());
    const half = Math.max(size.x / 2 / 0.9 / (width / height), size.y / 2 / 0.82);
    Object.assign(this.camera, { left: (-half * width) / height, right: (half * width) / height, top: half, bottom: -half });
    this.camera.updateProjectionMatrix();
    this.draw();
  }

  draw() {
    if (this.waiting) return;
    this.waiting = true;
    requestAnimationFrame(() => {
      this.waiting = false;
      this.renderer.render(this.scene, this.camera);
      this.marks.placeLabels(this.camera, this.wide, this.high);
      this.marks.placeTip(this.camera, this.wide, this.high);
      this.handles.place(this.camera, this.wide, this.high);
    });
  }

  picture() {
    this.renderer.render(this.scene, this.camera);
    const paper = document.createElement("canvas");
    [paper.width, paper.height] = [this.canvas.width, this.canvas.height];
    const pen = paper.getContext("2d");
    pen.fillStyle = "#f7f3ea";
    pen.fillRect(0, 0, paper.width, paper.height);
    pen.drawImage(this.canvas, 0, 0);
    this.drawTags(pen, paper.width / this.canvas.parentElement.clientWidth);
    return paper.toDataURL("image/png");
  }

  drawTags(pen, scale) {
    pen.font = `600 ${15 * scale}px "Atkinson Hyperlegible Next"`;
    pen.textAlign = "center";
    pen.textBaseline = "middle";
    for (const { at, span } of this.marks.labels) {
      const p = at.clone().project(this.camera);
      const [x, y] = [((p.x + 1) / 2) * pen.canvas.width, ((1 - p.y) / 2) * pen.canvas.height];
      const half = pen.measureText(span.textContent).width / 2 + 6 * scale;
      pen.fillStyle = "#fffdf7";
      pen.fillRect(x - half, y - 11 * scale, 2 * half, 22 * scale);
      pen.strokeRect(x - half, y - 11 * scale, 2 * half, 22 * scale);
      pen.fillStyle = "#1f2933";
      pen.fillText(span.textContent, x, y);
    }
  }

  // ---- what stands on it --------------------------------------------------------------

  // Words go first: the picture follows a moment later, once for all that came meanwhile.
  update(scene) {
    const standing = scene.order && new Set(scene.order); // told where rows came, went or moved
    const rows = { ...this.state.rows, ...scene.rows };
    this.state = { ...scene, rows: Object.fromEntries(Object.entries(rows).filter(([id]) => !standing || standing.has(id))) };
    this.paintSoon();
  }

  paint() {
    const { rows, current } = this.state;
    const tints = new Map();
    for (const row of Object.values(rows)) if (row.face != null && !tints.has(row.face)) tints.set(row.face, WORDS[row.word] ?? PLANNED);
    if (rows[current]?.face != null) tints.set(rows[current].face, CURRENT);
    for (const face of [...this.alike, ...this.pointed]) tints.set(face, ALIKE);
    const whole = this.part.faces[this.picked]?.surface === "mesh"; // then only the place was meant
    if (this.picked != null && !whole) tints.set(this.picked, PICKED);
    this.part.tint(tints);
    const shown = rows[this.selected ?? current] ?? rows[current];
    this.marks.showRow(this.bare ? { ...shown, worst: null, hits: Object.values(rows).flatMap((row) => row.hits ?? []) } : shown);
    if (this.bare) {
      if (!this.found) this.box.makeEmpty(); // what was shown was a guess
      if (this.enclose()) this.look("iso");
    }
    this.marks.showAhead(this.selected == null || this.selected === String(current) ? this.state.ahead : null);
    this.marks.showEdge(this.edge != null ? this.part.edgeLine(this.edge) : null);
    const labels = Object.values(rows)
      .filter((row) => row.datum && row.face != null)
      .map((row) => ({ at: this.part.spot(row.face), text: row.datum }));
    const numbered = this.alike.map((face, k) => ({ at: this.part.spot(face), text: String(k + 1) }));
    const here = whole && this.place ? [{ at: this.place, text: "here" }] : [];
    const told = this.told();
    this.marks.setLabels(told.length ? told : numbered.length ? numbered : [...labels, ...here]);
    this.draw();
  }

  // What the slip wants marked: places that were picked, the ringed next one, the place that is known worst.
  told() {
    const picks = document.querySelector("#slip [data-marks]")?.dataset;
    const worst = document.querySelector("#slip [data-worst]")?.dataset;
    const at = (text) => new Vector3(...text.split(",").slice(0, 3).map(Number));
    if (picks) this.marks.showAhead({ next: picks.next ? at(picks.next).toArray() : null });
    const places = picks ? JSON.parse(picks.marks).map(({ at, text }) => ({ at: new Vector3(...at), text })) : [];
    return worst ? [...places, { at: at(worst.worst), text: worst.worstWords, className: "worst" }] : places;
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
    this.marks.placeTip(this.camera, this.wide, this.high);
  }

  // ---- the hand on the mouse ----------------------------------------------------------

  listen() {
    let down = null;
    rememberLooks(document.getElementById("slip"));
    this.canvas.addEventListener("webglcontextlost", (event) => {
      event.preventDefault(); // so that it may come back
      say("The drawing is lost for a moment: the graphics were needed elsewhere. Nothing that was measured is touched.");
    });
    this.canvas.addEventListener("webglcontextrestored", () => this.draw());
    this.canvas.addEventListener("pointerdown", (event) => (down = [event.clientX, event.clientY]));
    this.canvas.addEventListener("pointerup", (event) => {
      if (down && this.ready && Math.hypot(event.clientX - down[0], event.clientY - down[1]) < 5) this.clicked(event);
      down = null;
    });
    document.addEventListener("click", (event) => {
      const { view, look } = event.target.dataset;
      if (!this.ready) return;
      if (view) this.look(view);
      if (look) this.through(event.target);
      if (event.target.dataset.apart !== undefined) {
        this.part.apart(event.target.dataset.apart);
        this.draw();
      }
    });
    document.addEventListener("change", (event) => {
      if (event.target.dataset.clickStands !== undefined && this.ready) lookRound(this);
      if (event.target.dataset.body === undefined || !this.ready) return;
      this.part.show(Number(event.target.dataset.body), event.target.checked);
      this.draw();
    });
    document.addEventListener("htmx:afterSwap", () => {
      const movable = document.querySelector("#slip [data-movable]")?.dataset.movable;
      if (movable && this.ready && movable !== [...this.part.movable].join(",")) {
        this.part.movable = new Set(movable.split(",").map(Number));
        this.paint();
      }
      this.follow();
      this.handles.follow();
      const now = document.querySelector("#slip [data-drawn-now]")?.dataset.drawnNow;
      if (now && this.ready) {
        this.marks.showAhead({ lines: JSON.parse(now) });
        this.draw();
      }
    });
    for (const come of ["pointerover", "focusin"]) document.addEventListener(come, ({ target }) => this.pointAt(target));
    document.addEventListener("pointerover", (event) => {
      const drawn = event.target.closest?.("[data-drawn]")?.dataset.drawn;
      if (!drawn || !this.ready) return;
      this.marks.showDrawn(JSON.parse(drawn));
      this.draw();
    });
  }

  // What a row on the sheet, or a tolerance named in the slip, is of.
  pointAt(target) {
    const named = target.closest?.("[data-faces]")?.dataset.faces;
    const row = this.state.rows[target.closest?.("[data-row]")?.dataset.row];
    const faces = named?.split(" ").map(Number) ?? row?.faces ?? [];
    if (!this.ready || faces.join() === this.pointed.join()) return;
    this.pointed = faces;
    this.paint();
  }

  follow() {
    const chosen = document.querySelector("#slip [data-selected]")?.dataset.selected ?? null;
    const alike = document.querySelector("#slip [data-alike]")?.dataset.alike ?? "";
    const { marks = "", next = "", worst = "" } = document.querySelector("#slip :is([data-marks], [data-worst])")?.dataset ?? {};
    const wanted = `${marks} ${next} ${worst}`;
    if (chosen === this.selected && alike === this.alike.join(" ") && wanted === this.wanted) return;
    [this.selected, this.wanted] = [chosen, wanted];
    this.alike = alike ? alike.split(" ").map(Number) : [];
    if (this.ready) this.paint();
  }

  through(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", String(on));
    Object.assign(this.part.material, { transparent: on, opacity: on ? 0.35 : 1, depthWrite: !on, needsUpdate: true });
    this.draw();
  }

  clicked(event) {
    const box = this.canvas.getBoundingClientRect();
    const at = new Vector2(((event.clientX - box.left) / box.width) * 2 - 1, 1 - ((event.clientY - box.top) / box.height) * 2);
    const ray = new Raycaster();
    ray.setFromCamera(at, this.camera);
    const stands = document.querySelector("#slip [data-click-stands]:checked");
    if (stands) {
      standThere(this, ray.ray, stands);
      return;
    }
    const [hit] = ray.intersectObjects(this.part.bodies.map((b) => b.mesh).filter((m) => m.visible));
    if (!hit) return;
    const face = this.part.faceOf(hit);
    if (document.querySelector("[data-click-touches]")?.checked) {
      htmx.ajax("POST", document.querySelector("[data-hand]").dataset.hand, { values: { face, point: hit.point.toArray().join(",") }, swap: "none", target: "body" });
      return;
    }
    const told = (vector) => vector.toArray().map((v) => v.toFixed(5)).join(",");
    const adds = document.querySelector("#slip [data-click-adds]:checked");
    if (adds) {
      addAdjuster(adds.form.elements[adds.dataset.clickAdds], hit.point, hit.normal ?? hit.face.normal);
      return;
    }
    const looks = document.querySelector("#slip [data-click-looks]:checked");
    if (looks) {
      aim(looks.form, face, { point: told(hit.point), normal: told(hit.normal ?? hit.face.normal) });
      return;
    }
    const picks = document.querySelector("#slip [data-picks]");
    if (picks) {
      this.pickOneMore({ point: told(hit.point), normal: told(hit.normal ?? hit.face.normal) });
      return;
    }
    const perPixel = (this.camera.right - this.camera.left) / this.camera.zoom / box.width;
    const edge = this.part.edgeNear(hit.point, EDGE_PX * perPixel);
    this.pick(face, { ...(edge != null && { edge }), point: told(hit.point), normal: told(hit.normal ?? hit.face.normal) });
  }

  // Clicks may come faster than answers: each adds to the picks of the answer before.
  pickOneMore(place) {
    this.picking = (this.picking ?? Promise.resolve()).catch(() => {}).then(() => {
      const form = document.querySelector("#slip [data-picks]");
      const values = { ...place, picks: form?.elements.picks.value };
      return form && htmx.ajax("POST", form.dataset.picks, { values, target: "#rough", swap: "outerHTML" });
    });
    this.picking.catch(() => {}); // one that is cut off is told of by the notices
  }

  // place: where on it, and which way the surface faces there
  async pick(face, place = {}) {
    const asked = document.querySelector("#picked [data-click-plans]")?.form;
    this.picked = face;
    this.edge = place.edge ?? null;
    this.place = place.point ? new Vector3(...place.point.split(",").map(Number)) : null;
    this.paint();
    if (!document.getElementById("picked")) {
      await htmx.ajax("GET", `${this.base}/part`, { target: "#slip" });
      history.pushState({}, "", `${this.base}/part`);
    }
    const told = asked ? Object.fromEntries(["stem", "hits"].map((name) => [name, asked.elements[name].value])) : {};
    const carried = document.querySelector("#picked [data-carry]"); // what was typed at the face before
    if (carried) for (const [name, value] of new FormData(carried)) told[name] ??= value;
    const shown = document.getElementById("picked");
    const pick = (this.picks = (this.picks ?? 0) + 1);
    shown.inert = true; // until the answer comes, what stands there is of the face before
    const each = asked?.elements.each.checked;
    const [verb, path, more] = each ? ["POST", `faces/${face}/place`, { each: "1" }] : ["GET", `faces/${face}`, {}];
    const answer = htmx.ajax(verb, `${this.base}/${path}`, { target: "#picked", values: { ...place, ...told, ...more } });
    await answer.catch(() => {}); // one that is cut off is told of by the notices
    if (pick === this.picks) shown.inert = false;
  }
}
