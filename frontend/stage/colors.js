// Colours of the stage, beside the tokens in styles/tokens.css.
import { Color } from "three";

export const INK = new Color("#1f2933");
export const BASE = new Color("#efe4cc");
export const MOVABLE = new Color("#cfd8cf");
export const PLANNED = new Color("#e6d6b2");
export const CURRENT = new Color("#e9b650");
export const PICKED = new Color("#c98f2b");
export const CHOSEN = new Color("#9fbccb");
export const ALIKE = new Color("#d9b26a");
export const IN = new Color("#8dbdb2");
export const CLOSE = new Color("#dcb262");
export const OUT = new Color("#df8a6a");
export const UNPROVEN = new Color("#a9b1b8");
export const HIT = new Color("#1f2933");
export const LIGHT = new Color(0.2, 0.55, 0.75); // of a scan
// of a map, from far into the material to far out of it; beside --color-step-0 to 8
export const STEPS_CSS = ["#0b4a52", "#1c7277", "#58a09b", "#a2ccc4", "#f4ecdb", "#f3cd9c", "#e09d56", "#c56a2b", "#8a3512"];
export const STEPS = STEPS_CSS.map((color) => new Color(color).convertLinearToSRGB());
export const UNSEEN = new Color("#a7adab"); // of a map: where no light fell
export const FAINT = new Color("#ddd3bf").convertLinearToSRGB();
export const NEXT = new Color("#155e75");
export const WORST = new Color("#b93815");
export const WORDS = { in: IN, close: CLOSE, out: OUT, "not proven": UNPROVEN };
