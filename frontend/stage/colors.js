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
export const NEXT = new Color("#155e75");
export const WORST = new Color("#b93815");
export const WORDS = { in: IN, close: CLOSE, out: OUT, "not proven": UNPROVEN };
