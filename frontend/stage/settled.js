// Does something a moment after it was last asked for, and at the latest some time after it was first asked for.
export function settled(act, quietMs, latestMs) {
  let timer = null;
  let first = 0;
  return () => {
    const now = performance.now();
    if (timer === null) first = now;
    clearTimeout(timer);
    timer = setTimeout(
      () => {
        timer = null;
        act();
      },
      Math.max(0, Math.min(quietMs, first + latestMs - now)),
    );
  };
}
