// The stage as a picture for the report: paper, part and tags.
const PAPER = "#f7f3ea";
const TAG = { paper: "#fffdf7", ink: "#1f2933", px: 15, high: 22, margin: 6 };

export function picture(view, labels) {
  view.renderer.render(view.scene, view.camera);
  const paper = document.createElement("canvas");
  [paper.width, paper.height] = [view.canvas.width, view.canvas.height];
  const pen = paper.getContext("2d");
  pen.fillStyle = PAPER;
  pen.fillRect(0, 0, paper.width, paper.height);
  pen.drawImage(view.canvas, 0, 0);
  drawTags(pen, view, labels);
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
