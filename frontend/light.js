// How a scanner is held while its button is down: in a word, on a bar over its clear range, and by ear where that is on.
import { hearPlace, heardOfLight } from "./pulse.js";

const QUIET_MS = 600; // without a word of the light, and the button is up
let quiet = null;

export function lit(light) {
  const at = document.getElementById("light");
  if (light) hearPlace(heardOfLight(light));
  if (!at || !light) return;
  clearTimeout(quiet);
  quiet = setTimeout(hide, QUIET_MS);
  at.hidden = false;
  at.dataset.held = light.held;
  at.querySelector(".word").textContent = light.word;
  at.querySelector(".num").textContent = light.text;
  at.style.setProperty("--border", light.border);
  at.style.setProperty("--at", light.share ?? 0);
}

function hide() {
  const at = document.getElementById("light");
  if (at) at.hidden = true;
}
