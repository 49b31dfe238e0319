// A report's page by itself, without a server: the part turns, and rows, tags and places select each other.
import { Vector3 } from "three";
import { PartModel, unpack } from "../stage/model.js";
import { Painted } from "../stage/painted.js";
import { View } from "../stage/view.js";
import { CHOSEN, PLANNED, UNSEEN, WORDS } from "../stage/colors.js";

const NEAR_PX = 14; // a click means the nearest place so near to it
const TAGS = 40; // shown at once: those that come first matter the most

const told = JSON.parse(document.getElementById("told").textContent);
const bytes = (id) => Uint8Array.from(atob(document.getElementById(id).textContent), (letter) => letter.charCodeAt(0)).buffer;
const canvas = document.getElementById("part");
const tags = document.getElementById("tags");
const svg = (kind, attributes) => {
  const made = document.createElementNS("http://www.w3.org/2000/svg", kind);
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  return made;
};

const NARROW_PX = 700; // where tags would hide the part: only the chosen one has its own
let view, part, painted;
let chosen = null;
let shown = [];
if (innerWidth < NARROW_PX) document.getElementById("which").value = "one";
const places = new Map(told.tags.map((tag) => [tag.row, new Vector3(...tag.at)]));
const maps = new Map(told.maps.map((map) => [String(map.row), map]));

function begin() {
  try {
    view = new View(canvas, placeTags);
  } catch {
    document.getElementById("no-3d").hidden = false;
    return;
  }
  view.resized = (wide, high) => part?.ink.resolution?.set(wide, high);
  part = new PartModel(unpack(bytes("model")), told.bodies, [], view.slow);
  for (const { mesh, lines } of part.bodies) view.scene.add(mesh, lines);
  view.box.copy(part.box());
  for (const at of places.values()) if (!part.faces.length) view.box.expandByPoint(at);
  painted = new Painted(view);
  view.resize();
  view.look("iso");
  paint();
  canvas.addEventListener("click", clicked);
}

function paint() {
  const map = maps.get(document.getElementById("map")?.value ?? "");
  const tints = new Map(map ? part.faces.map((_, face) => [face, UNSEEN]) : []);
  if (!map) for (const { face, word } of told.tags) if (face != null) tints.set(face, WORDS[word] ?? PLANNED);
  const row = told.tags.find((tag) => tag.row === chosen);
  if (row?.face != null && !map) tints.set(row.face, CHOSEN);
  part.tint(tints);
  painted.scale(map ?? null);
  painted.fill(map ? new Float32Array(bytes(`map-${map.row}`)) : null, map?.size);
  choose(chosen);
}

// A row by its number, or none; it is seen in the table, and its tag stands on the part.
function choose(row, scroll) {
  chosen = row;
  for (const each of document.querySelectorAll("[data-row]")) each.classList.toggle("chosen", Number(each.dataset.row) === row);
  if (scroll) document.querySelector(`[data-row="${row}"]`)?.scrollIntoView({ block: "nearest" });
  const wanted = document.getElementById("which").value;
  const some = told.tags.filter((tag) => tag.row === row || wanted === "all" || (wanted === "out" && tag.word === "out"));
  shown = some.slice(0, TAGS);
  const mine = told.tags.find((tag) => tag.row === row);
  if (mine && !shown.includes(mine)) shown.push(mine);
  tags.replaceChildren(...shown.map(drawTag));
  view?.draw();
}

function drawTag(tag) {
  const group = svg("g", { class: `tag ${tag.word.replace(" ", "-")}${tag.row === chosen ? " chosen" : ""}`, tabindex: 0, role: "button" });
  const line = svg("path", {});
  const box = svg("rect", { rx: 3, height: 22 });
  const text = svg("text", {});
  text.textContent = tag.text;
  group.append(line, box, text);
  group.addEventListener("click", () => choose(tag.row, true));
  group.addEventListener("keydown", ({ key }) => (key === "Enter" || key === " ") && choose(tag.row, true));
  return group;
}

// At the sides of the part, in the order of their heights: lines do not cross then, and no tag lies on another.
function placeTags() {
  const { wide, high } = view;
  tags.setAttribute("viewBox", `0 0 ${wide} ${high}`);
  const at = shown.map((tag, k) => ({ k, on: view.onPaper(places.get(tag.row)) })).sort((a, b) => a.on[1] - b.on[1]);
  for (const left of [true, false]) {
    const side = at.filter(({ on: [x] }) => x < wide / 2 === left);
    const step = Math.min(28, (high - 24) / Math.max(side.length, 1));
    let top = 10;
    side.forEach(({ k, on: [x, y] }, n) => {
      const [line, box, text] = tags.children[k].children;
      top = Math.min(Math.max(top, y - 11), high - 14 - step * (side.length - n));
      const width = text.getComputedTextLength() + 12;
      const from = left ? 6 : wide - 6 - width;
      box.setAttribute("width", width);
      box.setAttribute("x", from);
      box.setAttribute("y", top);
      text.setAttribute("x", from + 6);
      text.setAttribute("y", top + 15.5);
      line.setAttribute("d", `M${left ? from + width : from} ${top + 11}L${x} ${y}m-3 0a3 3 0 1 0 6 0a3 3 0 1 0 -6 0`);
      top += step;
    });
  }
}

function clicked({ clientX, clientY }) {
  const { left, top } = canvas.getBoundingClientRect();
  let [best, nearest] = [NEAR_PX, null];
  for (const tag of told.tags) {
    const [x, y] = view.onPaper(places.get(tag.row));
    const away = Math.hypot(x - (clientX - left), y - (clientY - top));
    if (away < best) [best, nearest] = [away, tag.row];
  }
  if (nearest === null) {
    const hit = part.hitBy(view.rayAt(clientX - left, clientY - top));
    const face = hit ? part.faceOf(hit) : null;
    nearest = face === null ? null : (told.tags.find((tag) => tag.face === face)?.row ?? null);
  }
  choose(nearest, true);
  if (part) paint();
}

for (const row of document.querySelectorAll("[data-row]")) {
  row.tabIndex = 0;
  const take = () => {
    choose(Number(row.dataset.row));
    if (part) paint();
  };
  row.addEventListener("click", take);
  row.addEventListener("keydown", ({ key }) => key === "Enter" && take());
}
for (const id of ["map", "which"]) document.getElementById(id)?.addEventListener("change", () => (part ? paint() : choose(chosen)));
for (const each of document.querySelectorAll("[data-look]")) each.addEventListener("click", () => view?.look(each.dataset.look));
begin();
