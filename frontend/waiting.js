// While the details answer a press, or a page comes into them, what is picked on the part waits: it would be wiped away.
let underWay = 0;
let waiting = [];

const ends = () => {
  underWay -= 1;
  if (underWay) return;
  const acts = waiting;
  waiting = [];
  for (const act of acts) act();
};

export function watchAnswers() {
  const slip = document.getElementById("slip");
  document.addEventListener("htmx:beforeSend", ({ target, detail }) => {
    const changes = detail.requestConfig.verb !== "get" && slip.contains(target);
    if (!changes && detail.target !== slip) return;
    underWay += 1;
    detail.xhr.addEventListener("loadend", ends);
  });
}

export const answered = () => (underWay ? new Promise((act) => waiting.push(act)) : Promise.resolve());
