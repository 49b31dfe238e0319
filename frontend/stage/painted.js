// How far a scan lies off the CAD: the places of the part's surface where light fell, each painted by its deviation. Bare where
// nothing was seen.
import { BufferGeometry, Points, ShaderMaterial } from "three";
import { fetched, geometryOf, met, NUMBERS } from "./cloud.js";
import { FAINT, STEPS, STEPS_CSS } from "./colors.js";
import { shuffled } from "./thinning.js";

const WIDER = 1.5; // than their grid: neighbours meet
const LEAST_PX = 2;
const ALL = 1e9;

const material = () =>
  new ShaderMaterial({
    uniforms: {
      colors: { value: STEPS }, faint: { value: FAINT }, steps: { value: new Array(STEPS.length - 1).fill(0) },
      low: { value: -ALL }, high: { value: ALL }, size: { value: LEAST_PX },
    }, // prettier-ignore
    vertexShader: `attribute float off; uniform float steps[${STEPS.length - 1}]; uniform vec3 colors[${STEPS.length}];
      uniform vec3 faint; uniform float low; uniform float high; uniform float size; varying vec3 color;
      void main() {
        color = colors[0];
        for (int k = 0; k < ${STEPS.length - 1}; k++) if (off > steps[k]) color = colors[k + 1];
        if (off < low || off > high) color = faint;
        gl_PointSize = size; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); gl_Position.z -= 0.0004; }`,
    fragmentShader: "varying vec3 color; void main() { gl_FragColor = vec4(color, 1.0); }",
  });

export class Painted {
  constructor(view) {
    this.view = view;
    this.points = new Points(new BufferGeometry(), material());
    Object.assign(this.points, { visible: false, frustumCulled: false });
    this.points.onBeforeRender = () => {
      this.uniforms.size.value = devicePixelRatio * Math.max(LEAST_PX, WIDER * (this.size ?? 0) * view.pxPerMm);
    };
    view.thinned.push(this.points);
    this.legend = document.getElementById("scale");
    this.told = []; // the scale: colour and words of each step, the largest first
    view.scene.add(this.points);
    for (const come of ["pointerover", "focusin"]) document.addEventListener(come, ({ target }) => this.only(target.dataset ?? {}));
  }

  get uniforms() {
    return this.points.material.uniforms;
  }

  // A bar of how many places lie where is pointed at: only its places show their colour.
  only({ low, high }) {
    const [from, to] = low == null ? [-ALL, ALL] : [Number(low), Number(high)];
    if (this.uniforms.low.value === from && this.uniforms.high.value === to) return;
    [this.uniforms.low.value, this.uniforms.high.value] = [from, to];
    if (this.points.visible) this.view.draw();
  }

  // Of a row, or nothing.
  async show(base, row, map) {
    const address = map ? `${base}/maps/${row}/places?of=${map.key}` : null;
    this.scale(map);
    if (address === this.address) return;
    this.address = address;
    this.points.visible = false;
    if (!address) return;
    const found = await fetched(address);
    if (found && this.address === address) this.fill(found.numbers, found.size);
  }

  // Packed places, each so large, or none.
  fill(numbers, size) {
    this.points.visible = Boolean(numbers?.length);
    if (this.points.visible) {
      this.size = size;
      this.points.geometry.dispose();
      this.points.geometry = geometryOf(shuffled(numbers, NUMBERS), "off");
    }
    this.view.draw();
  }

  // What its colours mean, beside the part: the largest on top.
  scale(map) {
    const wanted = JSON.stringify(map ?? null);
    if (wanted === this.scaled) return;
    this.scaled = wanted;
    if (map) this.uniforms.steps.value = map.steps;
    this.told = map ? STEPS_CSS.map((color, k) => ({ color, step: k, words: map.words[k - 1] ?? "" })).reverse() : [];
    if (!this.legend) return;
    const items = this.told.map(({ step, words }) => {
      const item = document.createElement("li");
      item.className = `step-${step}`;
      item.textContent = words;
      return item;
    });
    this.legend.replaceChildren(...items);
    this.legend.hidden = !map;
  }

  nearest(ray) {
    return met(this.points, this.view, ray);
  }
}
