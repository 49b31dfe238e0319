// How well the part's place is known where one points at: asked of the server, shown at the pointer.
const PATIENCE_MS = 90;

export class Known {
  constructor(stage) {
    this.stage = stage;
    this.label = document.createElement("span");
    this.label.className = "known num";
    this.label.hidden = true;
    const { canvas } = stage.view;
    canvas.parentElement.append(this.label);
    canvas.addEventListener("pointermove", (event) => this.pointed(event));
    canvas.addEventListener("pointerleave", () => (this.label.hidden = true));
  }

  pointed(event) {
    const { known } = this.stage.drawing;
    if (!known || event.buttons || !this.stage.ready) {
      this.label.hidden = true;
      return;
    }
    this.at = [event.offsetX, event.offsetY];
    this.waiting ??= setTimeout(() => {
      this.waiting = null;
      this.ask(known);
    }, PATIENCE_MS);
  }

  async ask(path) {
    const [x, y] = this.at;
    const hit = this.stage.part.hitBy(this.stage.view.rayAt(x, y));
    if (!hit) {
      this.label.hidden = true;
      return;
    }
    const response = await fetch(`${path}?point=${hit.point.toArray().map((v) => v.toFixed(3)).join(",")}`).catch(() => null);
    if (!response?.ok) return;
    this.label.textContent = await response.text();
    this.label.style.transform = `translate(${x + 14}px, ${y - 26}px)`;
    this.label.hidden = !this.label.textContent;
  }
}
