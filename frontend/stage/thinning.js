// While the part is turned, as many points are drawn as keep it turning; once it rests, all of them.
const SLOW_MS = 1000 / 30; // from when it is asked for until it is drawn: a frame that takes longer stutters
const QUICK_MS = 1000 / 45;
const FEWER = 0.7;
const MORE = 1.15;
const LEAST = 0.05;
export const RESTS_MS = 160;

export class Thinning {
  constructor() {
    this.share = 1; // of the points, that a frame may have
  }

  // A frame of a motion took so long.
  took(took) {
    if (took > SLOW_MS) this.share = Math.max(LEAST, this.share * FEWER);
    else if (took < QUICK_MS) this.share = Math.min(1, this.share * MORE);
  }
}

// Records of so many numbers each in another order, the same each time: the first of them are all over what they show.
export function shuffled(numbers, size) {
  const count = numbers.length / size;
  let state = 1;
  for (let k = count - 1; k > 0; k -= 1) {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0; // W. Press et al., Numerical Recipes, 2nd ed., 7.1: enough for this
    const other = Math.floor((state / 4294967296) * (k + 1));
    for (let j = 0; j < size; j += 1) {
      const kept = numbers[k * size + j];
      numbers[k * size + j] = numbers[other * size + j];
      numbers[other * size + j] = kept;
    }
  }
  return numbers;
}
