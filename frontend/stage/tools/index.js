// What a click on the stage may do: the first tool in hand gets it. ``name``: of its control in the page ([data-tool]); one
// without a name is in hand where no other is. ``clicked(stage, place, control)``: ``place`` is {face, at, normal, told}, or,
// of a tool that works anywhere, the ray, and what casts it beside.
import { adjuster } from "./adjuster.js";
import { look } from "./look.js";
import { pairs } from "./pairs.js";
import { pick } from "./pick.js";
import { place } from "./place.js";
import { rough } from "./rough.js";
import { stand } from "./stand.js";
import { surface } from "./surface.js";
import { touch } from "./touch.js";

export const TOOLS = [stand, touch, adjuster, look, rough, pairs, surface, place, pick];
