// The slip follows what changes, by itself.
//
// Not by morphing: which forms keep what was typed, and what stays unfolded, has to be told in any case, and is most of it.
import htmx from "htmx.org";
import { pressed, whenFree } from "./pressed.js";

// What stands in the slip follows by itself, unless somebody is typing in it: also not when the
// answer to an earlier question comes late, or a person chose something else meanwhile.
const BY_ITSELF = "X-By-Itself";
const GONE = [404, 422];
const slip = document.getElementById("slip");
const typed = new Set(); // forms in which something was typed and not sent: they stay as they are when the rest follows
let kept = [];
let chosen = 0; // how often a person's choice came into the slip
let asked = 0; // pages that a person asked for, in order
let newest = 0; // of those that came: an earlier one that is late does not take its place
let underWay = 0;
let sending = 0; // forms that are being sent: nothing is put in their place before the answer says whether they were kept
let afterwards = [];
let behind = null;
let opened = []; // what a person has unfolded in the slip stays so
const questions = new Set(); // places of answers that a person asked for beside what stands there: they are asked for anew
const unfolded = () => [...slip.querySelectorAll("details")];
const named = (each) => each.querySelector("summary")?.textContent.trim();

const byPerson = ({ requestConfig }) => requestConfig.verb === "get" && requestConfig.headers[BY_ITSELF] === undefined;
const addressOf = (form) => form.id || (form.getAttribute("hx-post") ?? form.getAttribute("hx-get"));

function typing() {
  return slip.contains(document.activeElement) && document.activeElement.matches("input, select, textarea");
}

export function guardTyping() {
  slip.addEventListener("input", ({ target }) => target.form && typed.add(target.form));
  slip.addEventListener("submit", ({ target }) => {
    typed.delete(target);
    questions.clear();
  });
  document.addEventListener("htmx:beforeSend", ({ target, detail }) => {
    if (detail.requestConfig.verb !== "get" && slip.contains(target)) send(target.closest("form"), detail.xhr);
    if (detail.target.matches("[data-answer]")) questions.add(detail.target.id);
    if (detail.target !== slip) return;
    underWay += 1;
    if (byPerson(detail)) detail.requestConfig.turn = asked += 1;
    // of the request itself: an element that was replaced meanwhile hears of no end
    detail.xhr.addEventListener("loadend", ended);
  });
  document.addEventListener("htmx:beforeSwap", ({ target, detail }) => {
    if (target !== slip) return;
    if (byPerson(detail)) {
      if (detail.requestConfig.turn < newest) detail.shouldSwap = false;
      else newest = detail.requestConfig.turn;
    }
    const after = detail.requestConfig.headers[BY_ITSELF];
    if (after === undefined) return;
    if (GONE.includes(detail.xhr.status)) {
      detail.shouldSwap = false; // what stands here is: whoever took it away is led on, and others see it on the sheet
      return;
    }
    if (typing() || after !== String(chosen)) detail.shouldSwap = false;
    else if (pressed() || sending) {
      detail.shouldSwap = false;
      const again = () => ask(detail.pathInfo.requestPath);
      if (sending) afterwards.push(again);
      else whenFree(again);
    } else {
      opened = unfolded().filter((each) => each.open).map(named);
      kept = [...typed].filter((form) => slip.contains(form));
    }
  });
  document.addEventListener("htmx:afterSwap", ({ target, detail }) => {
    if (target !== slip) return;
    typed.clear();
    if (detail.requestConfig.headers[BY_ITSELF] === undefined) {
      chosen += 1;
      questions.clear();
      slip.scrollTop = 0; // what somebody turned to begins at its beginning
      return;
    }
    for (const each of unfolded()) if (opened.includes(named(each))) each.open = true;
    for (const form of kept) {
      const fresh = [...slip.querySelectorAll("form")].find((other) => addressOf(other) === addressOf(form));
      if (!fresh) continue;
      fresh.replaceWith(form);
      typed.add(form);
    }
  });
  document.addEventListener("htmx:afterSettle", ({ target, detail }) => {
    if (target !== slip || detail.requestConfig.headers[BY_ITSELF] === undefined) return;
    for (const id of questions) slip.querySelector(`[hx-target="#${id}"]`)?.click();
  });
}

// What was typed in a form that is refused stays typed.
function send(form, xhr) {
  sending += 1;
  underWay += 1;
  xhr.addEventListener("loadend", () => {
    if (form && (xhr.status === 0 || xhr.status >= 400)) typed.add(form);
    sending -= 1;
    ended();
    if (sending) return;
    const acts = afterwards;
    afterwards = [];
    for (const act of acts) act();
  });
}

// what changed while an answer was under way is asked for once more
function ended() {
  underWay -= 1;
  if (underWay || !behind) return;
  const late = behind;
  behind = null;
  follow(late);
}

function ask(path) {
  const asked = htmx.ajax("GET", path, { source: slip, target: slip, headers: { [BY_ITSELF]: String(chosen) } });
  asked.catch(() => {}); // a request that is cut off is told of by the notices
}

export function follow(update) {
  if (typing()) return;
  if (underWay) {
    const what = behind?.what === "sheet" ? "sheet" : update.what;
    behind = { ...update, what, rows: [...update.rows, ...(behind?.rows ?? [])] };
    return;
  }
  const row = slip.querySelector("[data-refresh-row]");
  const { stage } = document.getElementById("words").dataset;
  if (row && stage === "measure" && update.tone && update.scene.current && row.dataset.refreshRow !== String(update.scene.current)) {
    ask(location.pathname.replace(/[^/]*$/, `rows/${update.scene.current}`));
  } else if (row && (update.rows.map(String).includes(row.dataset.refreshRow) || update.what === "sheet")) {
    ask(row.dataset.from);
  }
  const any = slip.querySelector("[data-refresh=any]");
  if (any && update.what) ask(any.dataset.from);
}
