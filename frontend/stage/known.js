// How well the part's place is known where one points at: asked of the server, shown at the pointer.
import { Raycaster, Vector2 } from "three";

const PATIENCE_MS = 90;

export class Known {
  constructor(stage) {
    this.stage = stage;
    this.label = document.createElement("span");
    this.label.className = "known num";
    this.label.hidden = true;
    stage.canvas.parentElement.append(this.label);
    stage.canvas.addEventListener("pointermove", (event) => this.pointed(event));
    stage.canvas.addEventListener("pointerleave", () => (this.label.hidden = true));
  }

  pointed(event) {
    const asked = document.querySelector("#slip [data-known]");
    if (!asked || event.buttons || !this.stage.ready) {
      this.label.hidden = true;
      return;
    }
    this.at = [event.offsetX, event.offsetY];
    this.waiting ??= setTimeout(() => {
      this.waiting = null;
      this.ask(asked.dataset.known);
    }, PATIENCE_MS);
  }

  async ask(path) {
    const { clientWidth: width, clientHeight: height } = this.stage.canvas;
    const [x, y] = this.at;
    const ray = new Raycaster();
    ray.setFromCamera(new Vector2((x / width) * 2 - 1, 1 - (y / height) * 2), this.stage.camera);
    const [hit] = ray.intersectObjects(this.stage.part.bodies.map((b) => b.mesh).filter((m) => m.visible));
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
