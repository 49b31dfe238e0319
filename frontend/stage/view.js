// The eye: camera, light and paper of the stage. What stands in its scene, others put there.
import { AmbientLight, Box3, DirectionalLight, OrthographicCamera, Raycaster, Scene, Vector2, Vector3, WebGLRenderer } from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import { settled } from "./settled.js";
import { RESTS_MS, Thinning } from "./thinning.js";

const SIDES = { iso: [-0.62, -1, 0.62], front: [0, -1, 0.0001], back: [0, 1, 0.0001], side: [1, 0, 0.0001], top: [0, -0.0001, 1] };
export const FILLED = { across: 0.9, upward: 0.82 }; // of the paper by the part: clear of the words above and below it
const UPRIGHT = new Vector3(0, 0, 1);
const NEAREST_UPRIGHT = 0.01;
const LIGHTS = [
  [[-0.5, -1, 1.4], 1.25],
  [[1, 0.4, 0.3], 0.35],
];

function drawnInSoftware(gl) {
  const names = gl.getExtension("WEBGL_debug_renderer_info");
  return /swiftshader|llvmpipe|software/i.test(names ? gl.getParameter(names.UNMASKED_RENDERER_WEBGL) : "");
}

export class View {
  // Throws where the browser draws no 3D. ``drawn``: what lies over the picture follows it.
  constructor(canvas, drawn) {
    this.canvas = canvas;
    this.drawn = drawn;
    this.box = new Box3(); // what is to be seen
    this.filled = FILLED;
    this.thinned = []; // clouds of points, in no order, of which a part does while all turns
    this.thinning = new Thinning();
    this.rests = settled(() => this.shown < 1 && this.render(1), RESTS_MS, Infinity);
    this.renderer = new WebGLRenderer({ canvas, antialias: true, alpha: true, preserveDrawingBuffer: true });
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
    this.slow = drawnInSoftware(this.renderer.getContext());
    this.scene = new Scene();
    this.camera = new OrthographicCamera(-1, 1, 1, -1, -10000, 10000);
    this.camera.up.set(0, 0, 1);
    this.scene.add(new AmbientLight("#fff6e6", 2.1));
    for (const [at, strength] of LIGHTS) {
      const light = new DirectionalLight("#fffaf0", strength);
      light.position.set(...at);
      this.scene.add(light);
    }
    this.controls = new OrbitControls(this.camera, canvas);
    this.controls.addEventListener("change", () => this.draw());
    new ResizeObserver(() => this.resize()).observe(canvas.parentElement);
  }

  look(side) {
    const size = this.box.getSize(new Vector3()).length() / 2;
    const middle = this.box.getCenter(new Vector3());
    this.controls.target.copy(middle);
    this.camera.position.copy(middle).addScaledVector(new Vector3(...SIDES[side]).normalize(), 2 * size);
    this.camera.zoom = 1;
    this.controls.update();
    this.fit();
  }

  resize() {
    const { clientWidth: width, clientHeight: height } = this.canvas.parentElement;
    if (!width || !height) return;
    [this.wide, this.high] = [width, height];
    this.renderer.setSize(width, height, false);
    this.resized?.(width, height);
    if (!this.box.isEmpty()) this.fit();
  }

  // All that is to be seen, as it is seen from here.
  fit() {
    const { wide: width, high: height } = this;
    this.camera.updateMatrixWorld();
    const seen = new Box3();
    for (let k = 0; k < 8; k++) {
      const corner = new Vector3(...[0, 1, 2].map((a) => (k & (1 << a) ? this.box.max : this.box.min).getComponent(a)));
      seen.expandByPoint(corner.applyMatrix4(this.camera.matrixWorldInverse));
    }
    const size = seen.getSize(new Vector3());
    const half = Math.max(size.x / 2 / this.filled.across / (width / height), size.y / 2 / this.filled.upward);
    Object.assign(this.camera, { left: (-half * width) / height, right: (half * width) / height, top: half, bottom: -half });
    this.camera.updateProjectionMatrix();
    this.draw();
  }

  // Radians about the upright axis, and over the top.
  turnBy(around, over) {
    const target = this.controls.target;
    const offset = this.camera.position.clone().sub(target).applyAxisAngle(UPRIGHT, around);
    const across = new Vector3().crossVectors(UPRIGHT, offset).normalize();
    const lean = offset.angleTo(UPRIGHT) + over;
    if (lean > NEAREST_UPRIGHT && lean < Math.PI - NEAREST_UPRIGHT) offset.applyAxisAngle(across, over);
    this.camera.position.copy(target).add(offset);
    this.controls.update();
    this.draw();
  }

  zoomBy(share) {
    this.camera.zoom *= share;
    this.camera.updateProjectionMatrix();
    this.draw();
  }

  draw() {
    if (this.waiting) return;
    this.waiting = true;
    const asked = performance.now();
    requestAnimationFrame(() => {
      this.waiting = false;
      const many = this.thinned.some((points) => points.visible);
      this.render(many ? this.thinning.share : 1);
      if (!many) return;
      if (this.slow) this.finished();
      this.thinning.took(performance.now() - asked);
      this.rests();
    });
  }

  render(share) {
    for (const points of this.thinned) points.geometry.setDrawRange(0, Math.ceil(share * (points.geometry.attributes.position?.count ?? 0)));
    this.shown = share;
    this.renderer.render(this.scene, this.camera);
    this.drawn();
  }

  // Waits until it is drawn: where the processor draws, frames would queue up long before one is seen to be slow.
  finished() {
    const gl = this.renderer.getContext();
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4));
  }

  // Where a place lies on the paper, in px.
  onPaper(at) {
    const p = at.clone().project(this.camera);
    return [((p.x + 1) / 2) * this.wide, ((1 - p.y) / 2) * this.high];
  }

  get pxPerMm() {
    return (this.wide * this.camera.zoom) / (this.camera.right - this.camera.left);
  }

  rayAt(x, y) {
    const { width, height } = this.canvas.getBoundingClientRect();
    const caster = new Raycaster();
    caster.firstHitOnly = true;
    caster.setFromCamera(new Vector2((x / width) * 2 - 1, 1 - (y / height) * 2), this.camera);
    return caster;
  }
}
