// One stream of events per page: what changed comes as finished HTML, the tip as numbers.
import htmx from "htmx.org";
import { say } from "./notices.js";
import { tone } from "./tones.js";

export function live(bench, stage) {
  let lost = false;
  const stream = new EventSource(bench.dataset.live);

  stream.addEventListener("update", (event) => {
    const update = JSON.parse(event.data);
    if (lost) {
      lost = false;
      say("The connection is back. Everything confirmed is here.");
    }
    if (update.html) htmx.swap(document.body, update.html, { swapStyle: "none" });
    stage.update(update.scene);
    if (update.tone) tone(update.tone);
    refresh(update);
    document.dispatchEvent(new CustomEvent("zipplumb:update", { detail: update }));
  });

  stream.addEventListener("tip", (event) => stage.tip(JSON.parse(event.data)));
  stream.addEventListener("trouble", (event) => {
    lost = true;
    say(JSON.parse(event.data).words);
  });
  stream.addEventListener("error", () => {
    if (!lost) say("The server is away for a moment. Every confirmed hit is kept; this page goes on by itself.");
    lost = true;
    if (stream.readyState === EventSource.CLOSED) setTimeout(() => location.reload(), 2000);
  });
  window.addEventListener("pagehide", () => stream.close());
}

// What stands in the slip follows by itself, unless somebody is typing in it: also not when the
// answer to an earlier question comes late.
const BY_ITSELF = "X-By-Itself";
const SETTLED_MS = 80; // what is swapped in listens only a moment later
let touched = false;
let asking = false;
let behind = null;

function typing() {
  const slip = document.getElementById("slip");
  return touched || (slip.contains(document.activeElement) && document.activeElement.matches("input, select"));
}

export function guardTyping() {
  const slip = document.getElementById("slip");
  slip.addEventListener("input", () => (touched = true));
  slip.addEventListener("submit", () => (touched = false));
  document.addEventListener("htmx:afterSwap", (event) => {
    if (event.target === slip) touched = false;
  });
  document.addEventListener("htmx:configRequest", (event) => {
    if (event.detail.triggeringEvent?.type === "refresh") event.detail.headers[BY_ITSELF] = "1";
    asking ||= Boolean(event.detail.headers[BY_ITSELF]);
  });
  // what changed while an answer was under way is asked for once more
  document.addEventListener("htmx:afterRequest", (event) => {
    if (!event.detail.requestConfig?.headers[BY_ITSELF]) return;
    setTimeout(() => {
      asking = false;
      if (behind) refresh(behind);
      behind = null;
    }, SETTLED_MS);
  });
  document.addEventListener("htmx:beforeSwap", (event) => {
    if (event.target === slip && event.detail.requestConfig.headers[BY_ITSELF] && typing()) event.detail.shouldSwap = false;
  });
}

function refresh(update) {
  if (typing()) return;
  if (asking) {
    behind = { ...update, rows: [...update.rows, ...(behind?.rows ?? [])] };
    return;
  }
  const slip = document.getElementById("slip");
  const row = slip.querySelector("[data-refresh-row]");
  const stage = document.querySelector(".words [aria-current=page]")?.textContent.trim();
  if (row && stage === "Measure" && update.tone && update.scene.current && row.dataset.refreshRow !== String(update.scene.current)) {
    const path = location.pathname.replace(/[^/]*$/, `rows/${update.scene.current}`);
    htmx.ajax("GET", path, { target: "#slip", headers: { [BY_ITSELF]: "1" } });
  } else if (row && (update.rows.map(String).includes(row.dataset.refreshRow) || update.what === "sheet")) {
    htmx.trigger(row, "refresh");
  }
  const any = slip.querySelector("[data-refresh=any]");
  if (any && update.what) htmx.trigger(any, "refresh");
}
