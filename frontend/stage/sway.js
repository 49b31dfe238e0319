// The part sways along what is loose while one points at it: a small motion about its origin, to and fro.
import { Matrix4, Quaternion, Vector3 } from "three";

const SHARE = 0.035; // of the part's size, by which its farthest place moves
const PERIOD_MS = 2400;

export class Sway {
  constructor(stage) {
    this.stage = stage;
  }

  // ``motion``: of a small motion, its shift and its turn.
  begin([x, y, z, i, j, k]) {
    [this.slide, this.turn] = [new Vector3(x, y, z), new Vector3(i, j, k)];
    const { min, max } = this.stage.view.box;
    const corners = Array.from({ length: 8 }, (_, n) => new Vector3(...["x", "y", "z"].map((a, b) => (n & (1 << b) ? max : min)[a])));
    const farthest = Math.max(...corners.map((c) => this.turn.clone().cross(c).add(this.slide).length()), 1e-9);
    this.size = (SHARE * min.distanceTo(max)) / farthest;
    this.began ??= performance.now();
    const still = matchMedia("(prefers-reduced-motion: reduce)").matches;
    if (still) this.move(1);
    else this.frame();
  }

  end() {
    if (this.began == null) return;
    this.began = null;
    cancelAnimationFrame(this.next);
    this.move(0);
  }

  frame() {
    if (this.began == null) return;
    this.move(Math.sin((2 * Math.PI * (performance.now() - this.began)) / PERIOD_MS));
    this.next = requestAnimationFrame(() => this.frame());
  }

  // Some of the motion: a turn about its own axis is a turn, not a shear.
  move(share) {
    const by = this.size * share;
    const angle = this.turn.length() * by;
    const matrix = new Matrix4();
    if (share) {
      const axis = this.turn.clone().normalize();
      matrix.makeRotationFromQuaternion(new Quaternion().setFromAxisAngle(axis, angle));
      matrix.setPosition(this.slide.clone().multiplyScalar(by));
    }
    for (const { mesh, lines } of this.stage.part.bodies)
      for (const drawn of [mesh, lines]) {
        drawn.matrixAutoUpdate = false;
        drawn.matrix.copy(matrix);
        drawn.matrixWorldNeedsUpdate = true;
      }
    this.stage.view.draw();
  }
}
