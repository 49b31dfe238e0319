// A click on the part as a line of the list of adjusters: what touches there pushes along the face's inward normal.
export function adjusterLine(number, at, normal, pitch) {
  const size = normal.toArray().map(Math.abs);
  const k = size.indexOf(Math.max(...size));
  const way = `${normal.getComponent(k) > 0 ? "-" : "+"}${"XYZ"[k]}`;
  const place = at.toArray().map((v) => `${v.toFixed(2)} mm`);
  return [`Screw ${number}`, ...place, way, pitch].join("; ");
}

export const adjuster = {
  name: "adjuster",
  clicked(_, { at, normal }, control) {
    const list = control.form.elements.adjusters;
    const lines = list.value.split("\n").filter((line) => line.trim());
    const pitch = lines.at(-1)?.split(";")[5]?.trim() || "length a turn?";
    list.value = [...lines, adjusterLine(lines.length + 1, at, normal, pitch)].join("\n");
    list.dispatchEvent(new Event("input", { bubbles: true }));
  },
};
