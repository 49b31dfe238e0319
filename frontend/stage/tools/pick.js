// A face is picked, and with it the edge that is near: what it is, and what can be planned of it, comes into the slip.
import { Vector3 } from "three";
import htmx from "htmx.org";
import { answered } from "../../waiting.js";

const EDGE_PX = 9; // so near to an edge, it may be meant

export const pick = {
  clicked(stage, { face, at, told }) {
    const edge = stage.part.edgeNear(at, EDGE_PX / stage.view.pxPerMm);
    pickFace(stage, face, { ...(edge != null && { edge }), ...told });
  },
};

// place: where on it, and which way the surface faces there
export async function pickFace(stage, face, place = {}) {
  await answered();
  const form = document.querySelector("#picked form.place");
  const each = form?.elements.each.checked; // a click plans the next place at once
  stage.picked = { face, edge: place.edge ?? null, at: place.point ? new Vector3(...place.point.split(",").map(Number)) : null };
  stage.paint();
  if (!document.getElementById("picked")) {
    await htmx.ajax("GET", `${stage.base}/part`, { target: "#slip" });
    history.pushState({}, "", `${stage.base}/part`);
  }
  const typed = form ? Object.fromEntries(["stem", "hits"].map((name) => [name, form.elements[name].value])) : {};
  const carried = document.querySelector("#picked form.carried"); // what was typed at the face before
  if (carried) for (const [name, value] of new FormData(carried)) typed[name] ??= value;
  const shown = document.getElementById("picked");
  const turn = (stage.picks = (stage.picks ?? 0) + 1);
  shown.inert = true; // until the answer comes, what stands there is of the face before
  const [verb, path, more] = each ? ["POST", `faces/${face}/place`, { each: "1" }] : ["GET", `faces/${face}`, {}];
  const answer = htmx.ajax(verb, `${stage.base}/${path}`, { target: "#picked", values: { ...place, ...typed, ...more } });
  await answer.catch(() => {}); // one that is cut off is told of by the notices
  if (turn === stage.picks) shown.inert = false;
}
