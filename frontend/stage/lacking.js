// What is lacking while one scans: in words over the part, and as strokes on it where light has not been.
import { tone } from "../tones.js";

const ENDS = 6; // numbers of a stroke

export class Lacking {
  constructor(marks) {
    this.marks = marks;
    this.words = document.getElementById("lacking");
    this.enough = 0;
  }

  async ask(base, scan) {
    const response = await fetch(`${base}/scans/${scan}/lacking`).catch(() => null);
    if (!response?.ok) return;
    const numbers = new Float32Array(await response.arrayBuffer());
    const strokes = Array.from({ length: numbers.length / ENDS }, (_, k) => [0, 3].map((end) => [...numbers.subarray(k * ENDS + end, k * ENDS + end + 3)]));
    const [enough, of] = response.headers.get("X-Enough").split("/").map(Number);
    if (enough > this.enough) tone(enough === of ? "finished" : "in");
    this.enough = enough;
    this.words.textContent = decodeURIComponent(response.headers.get("X-Words"));
    this.marks.showLacking(strokes);
  }

  forget() {
    if (!this.words.textContent && !this.enough) return;
    this.enough = 0;
    this.words.textContent = "";
    this.marks.showLacking([]);
  }
}
