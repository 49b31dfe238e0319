// By ear: while something is brought to its place, or the tip to its next target, a soft pulse quickens as it comes near and is
// steady when it is in, so that eyes stay at the work. Which way is told by two timbres; lost has a sign of its own.
const STEADY_MS = 220;
const QUICKEST_MS = 110;
const SLOWEST_MS = 1200;
const PER_DOUBLING_MS = 150;
const LOST_MS = 1500; // without a word of where it is
const KEY = "by-ear";
const PITCH = { in: 880, out: 520, "not proven": 700, lost: 180, near: 980, far: 300 };
const SECONDS = { in: 0.21, out: 0.06, "not proven": 0.06, lost: 0.5, near: 0.06, far: 0.06 };
const LOUD = 0.06;
let context;
let on = globalThis.localStorage?.getItem(KEY) === "1";
let last = null; // what was told last
let heardAt = 0;
let timer = null;
let silent = true; // lost was said already
export const scheduled = []; // what was played lately, for tests

// ms to the next pulse, of a place that lies so far off with such a zone
export function paceMs({ word, mm, zone, left }) {
  if (word === "in") return STEADY_MS;
  if (left !== undefined) return QUICKEST_MS + (SLOWEST_MS - QUICKEST_MS) * left;
  return Math.min(SLOWEST_MS, QUICKEST_MS + PER_DOUBLING_MS * Math.log2(Math.max(1, mm / zone)));
}

export const voiceOf = ({ word, side }) => ({ pitch: PITCH[word], timbre: word !== "out" ? "sine" : side < 0 ? "square" : "triangle" });

function play(found) {
  const { pitch, timbre } = voiceOf(found);
  scheduled.push({ word: found.word, pitch, timbre, at: Date.now() });
  if (scheduled.length > 50) scheduled.shift();
  if (!navigator.userActivation?.hasBeenActive) return;
  context ??= new AudioContext();
  const voice = context.createOscillator();
  const loudness = context.createGain();
  const at = context.currentTime;
  voice.type = timbre;
  voice.frequency.value = pitch;
  loudness.gain.setValueAtTime(LOUD, at);
  loudness.gain.exponentialRampToValueAtTime(0.001, at + SECONDS[found.word]);
  voice.connect(loudness).connect(context.destination);
  voice.start(at);
  voice.stop(at + SECONDS[found.word]);
}

function beat() {
  timer = null;
  if (!on || !last) return;
  if (Date.now() - heardAt > LOST_MS) {
    if (!silent) play({ word: "lost" });
    silent = true;
    last = null;
    return;
  }
  play(last);
  timer = setTimeout(beat, paceMs(last));
}

// Where the tip or the reflector is now; null while it is near no place.
export function hearPlace(found) {
  heardAt = Date.now();
  last = found;
  if (!found || !on) return;
  silent = false;
  timer ??= setTimeout(beat, 0);
}

// How a scanner is held, to be heard: near is high, far is low, quicker the less is left of its clear range; right is silent.
export function heardOfLight({ held, share, border }) {
  const left = { near: share / border, far: (1 - share) / border, nothing: 1 }[held];
  return left === undefined ? null : { word: held === "nothing" ? "lost" : held, left };
}

const buttons = () => document.querySelectorAll("[data-by-ear]");
const shown = () => buttons().forEach((button) => button.setAttribute("aria-pressed", String(on)));

export function byEar() {
  on = !on;
  localStorage.setItem(KEY, on ? "1" : "0");
  shown();
  if (on && last) hearPlace(last);
  return on;
}

export function listen() {
  window.zipplumbPulses = scheduled;
  document.addEventListener("click", ({ target }) => target.closest?.("[data-by-ear]") && byEar());
  for (const come of ["htmx:afterSwap", "htmx:oobAfterSwap"]) document.addEventListener(come, shown);
  shown();
}
