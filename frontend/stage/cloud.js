// The points of a scan, as they come from the server: places and brightness, packed. While it is scanned, what is new comes
// as it is taken; once it is worked out, all of it.
import { BufferGeometry, Color, InterleavedBuffer, InterleavedBufferAttribute, Points, ShaderMaterial } from "three";
import { INK, LIGHT } from "./colors.js";
import { shuffled } from "./thinning.js";

export const NUMBERS = 5; // of a point: x, y, z, brightness, which way it faces
const SIZE_PX = 2.2;
const CLICKED_PX = 8; // a click means a point that is drawn so near to it
const DEEPER = 3; // a point so many times as far off the ray is as good as one that lies so much deeper
const MOST = 400_000; // points that are drawn while it is scanned: the oldest give way

// the darker, the less light came back, and the more it faces away from the eye
const material = () =>
  new ShaderMaterial({
    uniforms: { ink: { value: new Color(INK) }, light: { value: new Color(LIGHT) }, size: { value: SIZE_PX * devicePixelRatio } },
    vertexShader: `attribute float bright; attribute float facing; uniform float size; varying float shine;
      void main() {
        vec3 way = vec3(floor(facing / 65536.0), mod(floor(facing / 256.0), 256.0), mod(facing, 256.0)) - 128.0;
        float square = facing > 0.0 ? abs(normalize(normalMatrix * way).z) : 0.8;
        shine = clamp(bright, 0.0, 1.0) * (0.3 + 0.7 * square);
        gl_PointSize = size; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); gl_Position.z -= 0.0004; }`,
    fragmentShader: `uniform vec3 ink; uniform vec3 light; varying float shine;
      void main() { gl_FragColor = vec4(mix(ink, light, shine), 1.0); }`,
  });

export async function fetched(address) {
  const response = await fetch(address).catch(() => null);
  if (!response?.ok) return null;
  const { headers } = response;
  const numbers = new Float32Array(await response.arrayBuffer());
  return { numbers, last: Number(headers.get("X-Last") ?? 0), alone: headers.get("X-Placed") === "world", size: Number(headers.get("X-Size")) };
}

// Of packed points the first along a ray, among those that lie as near to it as any does, or within a reach.
export function firstOn(numbers, [ox, oy, oz], [dx, dy, dz], reach) {
  let first = null;
  let least = Infinity;
  for (let k = 0; k < numbers.length; k += NUMBERS) {
    const [x, y, z] = [numbers[k] - ox, numbers[k + 1] - oy, numbers[k + 2] - oz];
    const along = x * dx + y * dy + z * dz;
    const off = Math.sqrt(Math.max(0, x * x + y * y + z * z - along * along));
    if (off > reach) continue;
    const worth = along + DEEPER * off; // what is nearer to the eye, and nearer to the ray
    if (worth < least) [least, first] = [worth, k];
  }
  return first === null ? null : [...numbers.subarray(first, first + 3)];
}

// Of packed points, the fourth number of each by its name.
export function geometryOf(numbers, name) {
  const buffer = new InterleavedBuffer(numbers, NUMBERS);
  const geometry = new BufferGeometry();
  geometry.setAttribute("position", new InterleavedBufferAttribute(buffer, 3, 0));
  geometry.setAttribute(name, new InterleavedBufferAttribute(buffer, 1, 3));
  geometry.setAttribute("facing", new InterleavedBufferAttribute(buffer, 1, 4));
  return geometry;
}

// The point of some that are drawn which a ray meets first, of those near to it; null where there is none.
export function met(points, view, { origin, direction }) {
  if (!points.visible) return null;
  const { array } = points.geometry.getAttribute("position").data;
  return firstOn(array, origin.toArray(), direction.toArray(), CLICKED_PX / view.pxPerMm);
}

export class Cloud {
  // ``alone``: told a box where nobody knows yet how the part lies to what was scanned, and nothing where it is known.
  constructor(view, alone, lacking) {
    Object.assign(this, { view, alone, lacking });
    this.points = new Points(new BufferGeometry(), material());
    this.points.visible = false;
    this.points.frustumCulled = false;
    view.thinned.push(this.points);
    this.forget();
    view.scene.add(this.points);
  }

  forget() {
    this.live = { scan: null, lines: 0, last: 0, numbers: new Float32Array(0) };
  }

  // Of a row: what was worked out of it (``cloud``), or what is scanned (``light``, how many lines); neither: nothing.
  show(base, scan, { cloud, light } = {}) {
    if (light) return this.grow(base, scan, light);
    this.forget();
    this.lacking.forget();
    return this.whole(scan, cloud ? `${base}/scans/${scan}/points?of=${cloud}` : null);
  }

  async whole(scan, address) {
    if (address === this.address) return;
    this.address = address;
    if (!address || this.drawn !== scan) this.hide(); // what was seen while scanning stays till it is worked out
    if (!address) return;
    const found = await fetched(address);
    if (found && this.address === address) this.draw(scan, shuffled(found.numbers, NUMBERS), found.alone);
  }

  async grow(base, scan, lines) {
    if (this.live.scan !== scan || lines < this.live.lines) {
      this.forget(); // another, or something was taken back
      this.hide();
    }
    const { live } = this;
    this.address = null;
    if (live.lines === lines || live.asking) return;
    Object.assign(live, { scan, asking: true });
    const found = await fetched(`${base}/scans/${scan}/points?after=${live.last}`);
    live.asking = false;
    if (!found || this.live !== live) return;
    const behind = found.last > live.last && found.numbers.length > 0;
    const both = new Float32Array(live.numbers.length + found.numbers.length);
    both.set(live.numbers);
    both.set(found.numbers, live.numbers.length);
    Object.assign(live, { last: found.last, numbers: both.subarray(-MOST * NUMBERS), lines: behind ? live.lines : lines });
    this.draw(scan, live.numbers, found.alone);
    this.lacking.ask(base, scan);
    if (behind) this.grow(base, scan, lines); // until nothing new comes
  }

  nearest(ray) {
    return met(this.points, this.view, ray);
  }

  hide() {
    this.points.visible = false;
    this.alone(null);
  }

  draw(scan, numbers, alone) {
    if (!numbers.length) return;
    this.drawn = scan;
    const geometry = geometryOf(numbers, "bright");
    this.points.geometry.dispose();
    this.points.geometry = geometry;
    this.points.visible = true;
    geometry.computeBoundingBox();
    this.alone(alone ? geometry.boundingBox : null);
    this.view.draw();
  }
}
