// The points of a scan, as they come from the server: places and brightness, packed.
import { BufferGeometry, Color, InterleavedBuffer, InterleavedBufferAttribute, Points, ShaderMaterial } from "three";
import { INK } from "./colors.js";

const NUMBERS = 4; // of a point: x, y, z, brightness
const SIZE_PX = 2.2;

// the darker, the less light came back
const material = () =>
  new ShaderMaterial({
    uniforms: { ink: { value: new Color(INK) }, size: { value: SIZE_PX * devicePixelRatio } },
    vertexShader: `attribute float bright; uniform float size; varying float shine;
      void main() { shine = clamp(bright, 0.0, 1.0); gl_PointSize = size; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); gl_Position.z -= 0.0004; }`,
    fragmentShader: `uniform vec3 ink; varying float shine;
      void main() { gl_FragColor = vec4(mix(ink, vec3(0.2, 0.55, 0.75), shine), 1.0); }`,
  });

export class Cloud {
  constructor(view) {
    this.view = view;
    this.points = new Points(new BufferGeometry(), material());
    this.points.visible = false;
    this.points.frustumCulled = false;
    view.scene.add(this.points);
  }

  // ``address``: of what is to be drawn, another for other points; null: nothing.
  async show(address) {
    if (address === this.address) return;
    this.address = address;
    this.points.visible = false;
    if (!address) return;
    const response = await fetch(address).catch(() => null);
    if (!response?.ok || this.address !== address) return;
    const buffer = new InterleavedBuffer(new Float32Array(await response.arrayBuffer()), NUMBERS);
    if (this.address !== address || !buffer.count) return;
    const geometry = new BufferGeometry();
    geometry.setAttribute("position", new InterleavedBufferAttribute(buffer, 3, 0));
    geometry.setAttribute("bright", new InterleavedBufferAttribute(buffer, 1, 3));
    this.points.geometry.dispose();
    this.points.geometry = geometry;
    this.points.visible = true;
    this.view.draw();
  }
}
