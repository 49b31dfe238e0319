// Live events of a page: one stream, what is heard of each sort, and what is said while nothing comes.
//
// Not htmx's own extension for them: one change is HTML, what the stage draws and a tone, which are to be shown together and
// not under a finger that is pressing something.
const AGAIN_MS = 2000;
const PASSING = ["tip", "trouble"]; // these do not say that all is well again

// ``heard``: by the sort of event, what is done with its data. ``away``, ``back``: the stream is lost, and comes again.
export function events(address, heard, { away, back }) {
  let lost = false; // what was shown last may be old
  let gone = false; // the stream itself
  const stream = new EventSource(address);
  for (const [sort, act] of Object.entries(heard))
    stream.addEventListener(sort, ({ data }) => {
      if (lost && !PASSING.includes(sort)) {
        lost = gone = false;
        back();
      }
      act(JSON.parse(data));
    });
  stream.addEventListener("trouble", () => (lost = true));
  stream.addEventListener("error", () => {
    if (!gone) away();
    lost = gone = true;
    if (stream.readyState === EventSource.CLOSED) setTimeout(() => location.reload(), AGAIN_MS);
  });
  window.addEventListener("pagehide", () => stream.close());
  return stream;
}
