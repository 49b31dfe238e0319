import { hearPlace } from "./pulse.js";

// Places as they were last seen: one reflector is watched at a time, so each keeps its number, and says how old it is.
const NOW_MS = 1500;
const STILL_MM = 0.3; // from one number to the next: what is carried past is not kept
let seen = {};
let key = "";
let latest = Date.now();
let said = null;
let at = null; // where the tip is
let zero = null;
let unit = null;

export const age = (ms) => (ms < NOW_MS ? "now" : ms < 60_000 ? `${Math.round(ms / 1000)} s ago` : `${Math.round(ms / 60_000)} min ago`);

function show(row) {
  const line = document.querySelector(`[data-aim="${row}"]`);
  if (!line || !seen[row].symbol) return; // one kept by an earlier page says less
  const { far, ways, at, word, symbol } = seen[row];
  const old = Date.now() - at;
  line.querySelector(".far").textContent = `${symbol} ${far}`;
  line.querySelector(".ways").textContent = word === "in" ? "leave it" : ways;
  line.querySelector(".age").textContent = age(old);
  line.classList.toggle("in", word === "in");
  line.classList.toggle("out", word === "out");
  line.classList.toggle("old", old >= NOW_MS);
}

// In the band, to be read from three metres; the server draws the band anew now and then.
function say(found) {
  said = found;
  const now = document.getElementById("placing-now");
  now.classList.toggle("in", found?.word === "in");
  now.classList.toggle("out", found?.word === "out");
  now.classList.remove("old");
  const [what, ways] = now.children;
  const surely = found?.U ? `, U ${found.U}` : "";
  what.textContent = !found ? "Bring the tip or the reflector near a place." : `${found.symbol} ${found.name}${found.word === "in" ? " is in" : `: ${found.far}`}`;
  const move = { in: `${found?.far} off${surely}. Leave it.`, out: `Move it ${found?.ways}.`, "not proven": `Not surely in${surely}: ${found?.ways}.` };
  // what is turned is told by its turns alone: both would break into two lines, and the picture jump
  ways.textContent = !found ? "" : (found.word === "out" && left(found.turning)) || move[found.word];
}

// Of the turn that is being made, while a reflector sees it.
export function left(turning) {
  if (!turning) return "";
  if (turning.astray) return `${turning.name}: stop, it goes another way.`;
  if (turning.enough) return `${turning.name}: enough.`;
  return `${turning.name}: still ${[turning.left, turning.hand].filter(Boolean).join(", ")}.`;
}

function fade() {
  const old = Date.now() - latest;
  if (old < NOW_MS) return;
  const now = document.getElementById("placing-now");
  now.classList.add("old");
  if (said) now.children[1].textContent = `Not seen since ${age(old).replace(" ago", "")}: this number is old.`;
}

export function place(bench, stage) {
  unit = stage.unit;
  key = `placed-${bench.dataset.job}`;
  seen = JSON.parse(sessionStorage.getItem(key) ?? "{}");
  const all = () => {
    Object.keys(seen).forEach(show);
    fade();
  };
  zero = JSON.parse(sessionStorage.getItem(`${key}-zero`) ?? "null");
  setInterval(all, 1000);
  document.addEventListener("click", ({ target }) => target.closest("[data-zero]") && zeroHere());
  document.addEventListener("htmx:afterSwap", all);
  all();
}

// A zero of one's own: from then on it is told how far the tip is from there, along the active system.
export function length(mm, unit) {
  const text = (mm / unit.mm).toFixed(unit.decimals);
  return (mm < 0 ? text : `+${text}`).replace("-", "\u2212");
}

function fromZero(tip) {
  const line = document.getElementById("from-zero");
  line.textContent = zero && tip ? `From zero: ${["X", "Y", "Z"].map((axis, k) => `${axis} ${length(tip[k] - zero[k], unit)}`).join("   ")}` : "";
  const button = document.querySelector("[data-zero]");
  if (button) button.textContent = zero ? "Take the zero away (Z)" : "Zero here (Z)";
}

export function zeroHere() {
  zero = zero ? null : at;
  if (zero) sessionStorage.setItem(`${key}-zero`, JSON.stringify(zero));
  else sessionStorage.removeItem(`${key}-zero`);
  fromZero(at);
}

export function placed(message) {
  at = message.tip ?? null;
  fromZero(at);
  const found = message.place;
  hearPlace(document.getElementById("words").dataset.stage === "measure" ? message.target : found);
  latest = Date.now();
  if (!found) return say(null);
  const before = said;
  say(found);
  if (before?.row !== found.row || Math.abs(before.mm - found.mm) > STILL_MM) return;
  seen[found.row] = { far: found.far, ways: found.ways, word: found.word, symbol: found.symbol, at: Date.now() };
  sessionStorage.setItem(key, JSON.stringify(seen));
  show(found.row);
}
