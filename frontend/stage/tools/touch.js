// The stand-in's hand touches where it is clicked.
import htmx from "htmx.org";

export const touch = {
  name: "touch",
  clicked(_, { face, at }) {
    const { hand } = document.querySelector("[data-hand]").dataset;
    htmx.ajax("POST", hand, { values: { face, point: at.toArray().join(",") }, swap: "none", target: "body" });
  },
};
