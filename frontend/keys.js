// The keys; the device's buttons do the same.
import htmx from "htmx.org";
import { say } from "./notices.js";
import { zeroHere } from "./place.js";
import { byEar } from "./pulse.js";
import { mute } from "./tones.js";

const HAND = "stand-in-hand";

// The stand-in's hand is a drawer of its own beside the part. Closed, it holds nothing: a click is a click again.
function drawerOfHand() {
  const hand = document.querySelector("[data-hand]");
  const show = (open) => {
    if (!hand) return;
    hand.hidden = !open;
    localStorage.setItem(HAND, open ? "open" : "closed");
    document.querySelector("[aria-controls=hand]").setAttribute("aria-expanded", String(open));
    if (open) htmx.trigger(hand, "opened");
    else for (const box of hand.querySelectorAll("[data-tool]:checked")) box.checked = false;
  };
  const drawer = () => show(hand?.hidden);
  if (localStorage.getItem(HAND) === "open") show(true);
  document.addEventListener("click", ({ target }) => target.closest?.("[data-hand-drawer]") && drawer());
  return { hand, drawer };
}

export function keys(bench, find, choice) {
  const base = `/jobs/${bench.dataset.job}`;
  const post = (path, values = {}) => htmx.ajax("POST", `${base}${path}`, { values, swap: "none", target: "body" });
  const single = !document.body.classList.contains("no-single-keys");
  const { hand, drawer } = drawerOfHand();
  const take = () => (hand ? post("/hand/click", { button: "take" }) : say("Take the hit with the arm's own button."));
  const finish = () => (hand ? post("/hand/click", { button: "finish" }) : post("/finish"));
  const acts = {
    t: take,
    " ": take,
    f: finish,
    u: () => post("/undo"),
    U: () => post("/undo", { sweep: "1" }),
    w: () => post("/way"),
    r: () => post("/touch"),
    z: zeroHere,
    j: () => post("/step/next"),
    k: () => post("/step/back"),
    m: () => say(mute() ? "Sound is off." : "Sound is on.", true),
    e: () => say(byEar() ? "Nearness by ear is on." : "Nearness by ear is off.", true),
    x: () => choice.toggle(),
    h: drawer,
    "/": find,
    "?": () => document.getElementById("keys").showModal(),
  };
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === " " && event.target.matches("button, a, summary")) return;
    if (!single && !"?/".includes(event.key)) return;
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  });
  document.addEventListener("click", (event) => {
    if (!event.target.matches("[data-touch-row]")) return;
    const [taken, wanted] = document.querySelector("#now .big .num").textContent.split("/").map(Number);
    post("/hand/touch", wanted ? { hits: Math.max(1, wanted - taken) } : {}); // of what asks for none, as the hand likes
  });
}
