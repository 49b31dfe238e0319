// The stage by the keyboard, while it has the focus: arrows turn the part, + and − come nearer and go away, 0 shows the whole.
const TURN = Math.PI / 18;
const NEARER = 1.2;
const MOVES = {
  ArrowLeft: (view) => view.turnBy(-TURN, 0),
  ArrowRight: (view) => view.turnBy(TURN, 0),
  ArrowUp: (view) => view.turnBy(0, -TURN),
  ArrowDown: (view) => view.turnBy(0, TURN),
  "+": (view) => view.zoomBy(NEARER),
  "-": (view) => view.zoomBy(1 / NEARER),
  0: (view) => view.look("iso"),
};

export function byKeys(view) {
  view.canvas.addEventListener("keydown", (event) => {
    const move = MOVES[event.key];
    if (!move || event.ctrlKey || event.metaKey || event.altKey) return;
    event.preventDefault();
    move(view);
  });
}
