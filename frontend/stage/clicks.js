// A click on the stage goes to the first tool that is in hand (tools/); a drag turns the part.
import { say } from "../notices.js";
import { TOOLS } from "./tools/index.js";
import { rectangle } from "./rectangle.js";

const STILL_PX = 5;

// A place on the part, as forms tell it.
const told = (vector) => vector.toArray().map((v) => v.toFixed(5)).join(",");

export function clicks(stage) {
  const { canvas } = stage.view;
  let down = null;
  rectangle(stage);
  canvas.addEventListener("pointerdown", (event) => (down = [event.clientX, event.clientY]));
  canvas.addEventListener("pointerup", (event) => {
    if (down && stage.ready && Math.hypot(event.clientX - down[0], event.clientY - down[1]) < STILL_PX) clicked(stage, event);
    down = null;
  });
  canvas.addEventListener("webglcontextlost", (event) => {
    event.preventDefault(); // so that it may come back
    say("The drawing is lost for a moment: the graphics were needed elsewhere. Nothing that was measured is touched.");
  });
  canvas.addEventListener("webglcontextrestored", () => stage.view.draw());
}

function clicked(stage, event) {
  const box = stage.view.canvas.getBoundingClientRect();
  const ray = stage.view.rayAt(event.clientX - box.left, event.clientY - box.top);
  if (event.shiftKey) {
    const hit = stage.part.hitBy(ray);
    if (hit) stage.chooseFace(stage.part.faceOf(hit));
    return;
  }
  const { tool, control } = inHand();
  if (tool.anywhere) {
    tool.clicked(stage, ray.ray, control, ray);
    return;
  }
  const hit = stage.part.hitBy(ray);
  if (!hit) return;
  const normal = hit.normal ?? hit.face.normal;
  tool.clicked(stage, { face: stage.part.faceOf(hit), at: hit.point, normal, told: { point: told(hit.point), normal: told(normal) } }, control);
}

// A tool is in hand where its control is on: a box that is ticked, or a form that stands in the slip.
function inHand() {
  for (const tool of TOOLS) {
    const control = tool.name && document.querySelector(`[data-tool="${tool.name}"]:is(form, :checked)`);
    if (control || !tool.name) return { tool, control };
  }
}
