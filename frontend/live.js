// A job's page follows its events: what changed comes as finished HTML, the tip as numbers.
import htmx from "htmx.org";
import { events } from "./events.js";
import { follow } from "./follow.js";
import { lit } from "./light.js";
import { say } from "./notices.js";
import { placed } from "./place.js";
import { whenFree } from "./pressed.js";
import { tone } from "./tones.js";

export function live(bench, stage) {
  const heard = {
    update: (update) => whenFree(() => shown(update, stage)),
    tip(message) {
      stage.tip(message);
      placed(message);
      lit(message.light);
    },
    trouble: ({ words }) => say(words),
  };
  events(bench.dataset.live, heard, {
    away: () => say("The server is away for a moment. Every confirmed hit is kept; this page goes on by itself."),
    back: () => say("The connection is back. Everything confirmed is here.", true),
  });
}

function shown(update, stage) {
  if (update.html) htmx.swap(document.body, update.html, { swapStyle: "none" });
  speak();
  stage.update(update.scene);
  if (update.tone) tone(update.tone);
  follow(update);
  document.dispatchEvent(new CustomEvent("zipplumb:update", { detail: update }));
}

// What is asked for now is spoken when it is another thing, not at every hit.
function speak() {
  const spoken = document.getElementById("spoken");
  const ask = document.querySelector("#now .ask")?.textContent ?? "";
  if (spoken.textContent !== ask) spoken.textContent = ask;
}
