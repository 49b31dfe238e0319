// While something is pressed nothing is put in its place: the press would be lost.
const ANSWERS = "a, button, summary, label, input, select, [hx-get], [hx-post]";
const LONGEST_MS = 3000; // of a press; what is held longer is no press
let down = 0;
let waiting = [];

export const pressed = () => down > 0;

// At once, or when nothing is pressed any more, in the order in which it came.
export function whenFree(act) {
  if (pressed()) waiting.push(act);
  else act();
}

function release() {
  clearTimeout(down);
  down = 0;
  const acts = waiting;
  waiting = [];
  for (const act of acts) act();
}

export function guardPresses() {
  const begin = ({ target }) => {
    if (!target.closest?.(ANSWERS)) return;
    clearTimeout(down);
    down = setTimeout(release, LONGEST_MS);
  };
  document.addEventListener("pointerdown", begin, true);
  // the click itself comes right after the release, and before this
  for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => down && setTimeout(release), true);
}
