// The fitter's page: what is to be done comes as finished HTML, where the reflector is as numbers, and what is old says so.
import { events } from "./events.js";
import { hearPlace, listen } from "./pulse.js";

const OLD_MS = 1500;

export function fitter(frame) {
  const trouble = document.getElementById("fitter-trouble");
  const place = document.getElementById("fitter-place");
  const now = document.getElementById("fitter-now");
  let seen = 0;
  let lost = false;
  const say = (words) => {
    trouble.textContent = words;
    trouble.hidden = false;
  };
  const heard = {
    detail({ html }) {
      now.innerHTML = html;
      document.body.classList.remove("old");
    },
    place(found) {
      hearPlace(found);
      seen = Date.now();
      place.hidden = false;
      place.className = found.word === "not proven" ? "close" : found.word;
      place.children[0].textContent = `${found.symbol} ${found.name} ${found.far}`;
      place.children[1].textContent = found.word === "in" ? "Leave it." : found.ways;
      turning(found.turning);
    },
    trouble: ({ words }) => say(words),
    gone() {
      stream.close();
      location.reload();
    },
  };
  listen();
  const stream = events(frame.dataset.live, heard, {
    away() {
      lost = true;
      say("No connection. What is shown is old.");
      document.body.classList.add("old");
    },
    back() {
      lost = false;
      trouble.hidden = true;
    },
  });
  // what is left of the turn that is being made, while a reflector sees it
  const turning = (left) => {
    const next = now.querySelector(".next");
    if (!next || !left) return;
    const [label, name, count, hand, way] = next.children;
    next.classList.toggle("astray", left.astray);
    if (left.astray) {
      label.textContent = "Stop";
      count.textContent = "It goes another way";
      hand.className = "turn-way";
      way.textContent = "Turn it back, or wait for a new look.";
      return;
    }
    label.textContent = left.enough ? "Stop" : "Left to turn";
    name.textContent = left.name;
    count.textContent = left.enough ? "Enough" : left.left;
    hand.className = `turn-way ${left.enough ? "" : left.hand}`;
    hand.children[1].textContent = left.hand ? `${left.hand}, seen from its head` : "";
    way.textContent = left.enough ? "" : left.way;
  };
  setInterval(() => {
    const old = seen > 0 && Date.now() - seen > OLD_MS;
    place.classList.toggle("old", old || lost);
    if (old) place.children[1].textContent = `Seen ${Math.round((Date.now() - seen) / 1000)} s ago.`;
  }, 500);
  const awake = () => document.visibilityState === "visible" && navigator.wakeLock?.request("screen").catch(() => {});
  document.addEventListener("visibilitychange", awake);
  awake();
}
