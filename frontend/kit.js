// Pages of the kit: the server says that something changed, and what shows it asks for itself anew.
import htmx from "htmx.org";
import { events } from "./events.js";
import { say } from "./notices.js";
import { pressed, whenFree } from "./pressed.js";
import { mute, tone } from "./tones.js";

const EVERY_MS = 250;

export function kit(frame) {
  let due = null;
  const refresh = () => {
    due = null;
    for (const piece of document.querySelectorAll("[data-kit-from]")) if (!choosing(piece)) follow(piece.dataset.kitFrom);
  };
  document.addEventListener("focusout", ({ target }) => {
    if (target.matches("input, select")) due ??= setTimeout(refresh, EVERY_MS); // what was held back meanwhile
  });
  document.addEventListener("htmx:beforeSwap", ({ target, detail }) => {
    const path = target.dataset?.kitFrom;
    if (!path || !pressed() || detail.pathInfo.requestPath !== path) return;
    detail.shouldSwap = false;
    whenFree(() => follow(path));
  });
  const heard = {
    kit(word) {
      const mine = !frame.dataset.instrument || String(word.instrument) === frame.dataset.instrument;
      if (mine && word.tone) tone(word.tone);
      due ??= setTimeout(refresh, EVERY_MS);
    },
    tip({ instrument, tip }) {
      for (const place of document.querySelectorAll(`[data-tip="${instrument}"]`))
        place.textContent = ["X", "Y", "Z"].map((axis, k) => `${axis} ${tip[k].toFixed(2)}`).join("  ").replaceAll("-", "−");
    },
  };
  events(frame.dataset.kitLive, heard, {
    away: () => say("The server is away for a moment. Everything taken is kept; this page goes on by itself."),
    back: () => say("The connection is back. Everything taken is here.", true),
  });
  if (frame.dataset.trial) keys(frame.dataset.trial);
}

function choosing(piece) {
  return piece.contains(document.activeElement) && document.activeElement.matches("input, select");
}

const underWay = new Set(); // by path: an answer replaces the element that asked
const behind = new Set();

// One question at a time, and once more for what changed while its answer was under way.
async function follow(path) {
  if (underWay.has(path)) {
    behind.add(path);
    return;
  }
  underWay.add(path);
  do {
    behind.delete(path);
    const piece = document.querySelector(`[data-kit-from="${path}"]`);
    // one that is cut off is told of by the notices
    if (piece) await htmx.ajax("GET", path, { source: piece, target: piece, swap: "outerHTML" }).catch(() => {});
  } while (behind.has(path));
  underWay.delete(path);
}

// Finish, undo and the sound by the keyboard, as everywhere.
function keys(trial) {
  const acts = {
    f: () => htmx.ajax("POST", `${trial}/finish`, { swap: "none", target: "body" }),
    u: () => htmx.ajax("POST", `${trial}/undo`, { swap: "none", target: "body" }),
    m: () => say(mute() ? "Sound is off." : "Sound is on.", true),
  };
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    acts[event.key.toLowerCase()]?.();
  });
}

// Only the fields that belong to what was chosen.
export function choices() {
  document.addEventListener("change", (event) => {
    const group = event.target.dataset?.shows;
    if (!group) return;
    for (const set of event.target.form.querySelectorAll(`[data-${group}]`)) {
      const wanted = set.dataset[group].split(" ").includes(event.target.value);
      set.hidden = set.disabled = !wanted;
    }
  });
}
