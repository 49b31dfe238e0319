// What is lacking while one scans: in words over the part, and as strokes on it where light has not been.
import { tone } from "../tones.js";

const ENDS = 6; // numbers of a stroke
const EVERY_MS = 500; // no hand is quicker, and the server has the points to tell meanwhile

export class Lacking {
  constructor(marks) {
    this.marks = marks;
    this.words = document.getElementById("lacking");
    this.enough = this.round = 0;
    this.wanted = this.asking = null;
  }

  // Soon, and once for all that is wanted meanwhile.
  ask(base, scan) {
    this.wanted = `${base}/scans/${scan}/lacking`;
    this.asking ??= this.told().finally(() => (this.asking = null));
  }

  async told() {
    while (this.wanted) {
      const { wanted: address, round } = this;
      this.wanted = null;
      const response = await fetch(address).catch(() => null);
      const numbers = response?.ok ? new Float32Array(await response.arrayBuffer()) : null;
      if (numbers && round === this.round) this.show(response, numbers);
      await new Promise((after) => setTimeout(after, EVERY_MS));
    }
  }

  show(response, numbers) {
    const strokes = Array.from({ length: numbers.length / ENDS }, (_, k) => [0, 3].map((end) => [...numbers.subarray(k * ENDS + end, k * ENDS + end + 3)]));
    const [enough, of] = response.headers.get("X-Enough").split("/").map(Number);
    if (enough > this.enough) tone(enough === of ? "finished" : "in");
    this.enough = enough;
    this.words.textContent = decodeURIComponent(response.headers.get("X-Words"));
    this.marks.showLacking(strokes);
  }

  forget() {
    this.wanted = null;
    this.round += 1; // what was asked before is not shown any more
    if (!this.words.textContent && !this.enough) return;
    this.enough = 0;
    this.words.textContent = "";
    this.marks.showLacking([]);
  }
}
