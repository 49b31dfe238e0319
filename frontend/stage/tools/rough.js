// Places that are picked for a rough alignment. Clicks may come faster than answers: each adds to the picks of the answer before.
import htmx from "htmx.org";

let picking = Promise.resolve();

export const rough = {
  name: "rough",
  clicked(_, { told }) {
    picking = picking
      .catch(() => {})
      .then(() => {
        const form = document.querySelector('#slip [data-tool="rough"]');
        const values = { ...told, picks: form?.elements.picks.value };
        return form && htmx.ajax("POST", form.dataset.to, { values, target: "#rough", swap: "outerHTML" });
      });
    picking.catch(() => {}); // one that is cut off is told of by the notices
  },
};
