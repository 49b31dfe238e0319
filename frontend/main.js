// The front door of the page's own behaviour. Pages come from the server; this only adds what a server cannot do.
import htmx from "htmx.org";
import { keys } from "./keys.js";
import { chosen } from "./chosen.js";
import { find } from "./find.js";
import { fitter } from "./fitter.js";
import { guardTyping } from "./follow.js";
import { forms } from "./forms.js";
import { choices, kit } from "./kit.js";
import { later } from "./later.js";
import { live } from "./live.js";
import { notices } from "./notices.js";
import { place } from "./place.js";
import { plumb } from "./plumb.js";
import { guardPresses } from "./pressed.js";
import { listen } from "./pulse.js";
import { report } from "./report.js";
import { section } from "./section.js";
import { sheet } from "./sheet.js";
import { slip } from "./slip.js";
import { unfold } from "./unfold.js";
import { watchAnswers } from "./waiting.js";

window.htmx = htmx;
notices();
guardPresses();
choices();
forms();
const frame = document.querySelector("[data-kit-live]");
if (frame) kit(frame);
const atTheJig = document.getElementById("fitter");
if (atTheJig) fitter(atTheJig);
const bench = document.getElementById("bench");
if (bench) {
  // before what is heavy has come: what is asked meanwhile is not lost when the page follows
  slip();
  guardTyping();
  watchAnswers();
  const [{ Stage }, { pickFace }] = await Promise.all([import("./stage/stage.js"), import("./stage/tools/pick.js")]); // heavy: only where there is a stage
  const stage = new Stage(bench);
  window.zipplumb = { stage, pick: (face, place) => pickFace(stage, face, place) }; // for tests, which wait for the stage to have drawn
  live(bench, stage);
  const choice = chosen(bench, stage);
  keys(bench, find(window.zipplumb.pick), choice);
  plumb();
  place(bench, stage);
  listen();
  unfold();
  section();
  later();
  sheet(bench, choice);
  report(bench, stage);
}
