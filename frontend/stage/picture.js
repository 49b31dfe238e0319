// The stage as a picture for the report: paper, part and tags.
const PAPER = "#f7f3ea";
const STEP = { wide: 22, high: 30, edge: 14, gap: 8, px: 17 };
const TAG = { paper: "#fffdf7", ink: "#1f2933", px: 15, high: 22, margin: 6 };

// ``scale``: what the colours of a map mean, the largest first, or nothing.
export function picture(view, labels, scale = []) {
  view.renderer.render(view.scene, view.camera);
  const paper = document.createElement("canvas");
  [paper.width, paper.height] = [view.canvas.width, view.canvas.height];
  const pen = paper.getContext("2d");
  pen.fillStyle = PAPER;
  pen.fillRect(0, 0, paper.width, paper.height);
  pen.drawImage(view.canvas, 0, 0);
  drawTags(pen, view, labels);
  drawScale(pen, view, scale);
  return paper.toDataURL("image/png");
}

function drawTags(pen, view, labels) {
  const scale = pen.canvas.width / view.wide;
  pen.font = `600 ${TAG.px * scale}px "Atkinson Hyperlegible Next"`;
  pen.textAlign = "center";
  pen.textBaseline = "middle";
  for (const { at, span } of labels) {
    const [x, y] = view.onPaper(at).map((px) => px * scale);
    const half = pen.measureText(span.textContent).width / 2 + TAG.margin * scale;
    const box = [x - half, y - (TAG.high / 2) * scale, 2 * half, TAG.high * scale];
    pen.fillStyle = TAG.paper;
    pen.fillRect(...box);
    pen.strokeRect(...box);
    pen.fillStyle = TAG.ink;
    pen.fillText(span.textContent, x, y);
  }
}

function drawScale(pen, view, scale) {
  const px = pen.canvas.width / view.wide;
  const right = pen.canvas.width - (STEP.edge + STEP.wide) * px;
  pen.font = `${STEP.px * px}px "Atkinson Hyperlegible Mono"`;
  pen.textAlign = "right";
  pen.textBaseline = "middle";
  scale.forEach(({ color, words }, k) => {
    pen.fillStyle = color;
    pen.fillRect(right, (STEP.edge + k * STEP.high) * px, STEP.wide * px, STEP.high * px);
    pen.fillStyle = TAG.ink;
    pen.fillText(words, right - STEP.gap * px, (STEP.edge + (k + 1) * STEP.high) * px);
  });
}
