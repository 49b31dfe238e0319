// The stand-in's hand touches where it is clicked.
import htmx from "htmx.org";

export const touch = {
  name: "touch",
  clicked(_, { face, at }) {
    const { hand } = document.querySelector("[data-hand]").dataset;
    const light = Object.fromEntries([...document.querySelectorAll("[data-light]")].map(({ name, value }) => [name, value]));
    htmx.ajax("POST", hand, { values: { ...light, face, point: at.toArray().join(",") }, swap: "none", target: "body" });
  },
};
