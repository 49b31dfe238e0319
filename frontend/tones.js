// Short tones: taken, finished, in, out, link lost. `M` mutes them.
const TONES = {
  taken: [[880, 0.05]],
  undone: [[440, 0.07]],
  finished: [[660, 0.08], [880, 0.1]],
  in: [[660, 0.08], [990, 0.14]],
  close: [[660, 0.08], [830, 0.14]],
  out: [[330, 0.16], [260, 0.24]],
  "not proven": [[520, 0.12], [520, 0.12]],
  asks: [[520, 0.1], [700, 0.1], [520, 0.1]],
  lost: [[220, 0.3], [180, 0.4]],
};
let context;
let muted = localStorage.getItem("muted") === "1";

export function mute() {
  muted = !muted;
  localStorage.setItem("muted", muted ? "1" : "0");
  return muted;
}

export function tone(name) {
  document.body.dataset.tone = name;
  if (muted || !TONES[name] || !navigator.userActivation?.hasBeenActive) return;
  context ??= new AudioContext();
  let at = context.currentTime;
  for (const [pitch, seconds] of TONES[name]) {
    const voice = context.createOscillator();
    const loudness = context.createGain();
    voice.frequency.value = pitch;
    loudness.gain.setValueAtTime(0.12, at);
    loudness.gain.exponentialRampToValueAtTime(0.001, at + seconds);
    voice.connect(loudness).connect(context.destination);
    voice.start(at);
    voice.stop(at + seconds);
    at += seconds;
  }
}
