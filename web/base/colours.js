// Colours for numbers, from the ramps that the tool puts into a page: the same as on its maps.

// Red, green, blue and so on of "rrggbb...".
export const colourBytes = (hex) => Uint8Array.from(hex.match(/../g) ?? [], (pair) => parseInt(pair, 16));

// `facts`: a ramp ({low, middle, high, powers, below, above}) or classes; `paint` writes red, green, blue and opacity of
// a value, nothing for a void.
export class Colours {
  constructor(facts) {
    this.classes = facts.classes ?? null;
    if (this.classes) {
      this.byCode = new Map(this.classes.map((k) => [k.code, colourBytes(k.colour)]));
      return;
    }
    Object.assign(this, facts.ramp);
    this.sides = [colourBytes(this.below), colourBytes(this.above)];
  }
  // Red, green and blue.
  of(value) {
    if (this.classes) return this.byCode.get(value) ?? [128, 128, 128];
    const v = this.powers ? Math.log10(Math.max(value, 1e-30)) : value;
    const above = v >= this.middle;
    const [from, to] = above ? [this.middle, this.high] : [this.low, this.middle];
    const n = this.sides[0].length / 3;
    const i = to > from ? Math.min(Math.max(Math.floor(((v - from) / (to - from)) * n), 0), n - 1) : 0;
    return this.sides[above ? 1 : 0].subarray(3 * i, 3 * i + 3);
  }
  paint(values) {
    const out = new Uint8Array(4 * values.length);
    for (let i = 0; i < values.length; ++i) {
      if (Number.isNaN(values[i])) continue;
      const c = this.of(values[i]);
      out[4 * i] = c[0];
      out[4 * i + 1] = c[1];
      out[4 * i + 2] = c[2];
      out[4 * i + 3] = 255;
    }
    return out;
  }
}

// A ramp of the page laid over another range.
export function overRange(ramp, low, high) {
  const span = ramp.high - ramp.low || 1;
  return {ramp: {...ramp, low, high, middle: low + ((ramp.middle - ramp.low) / span) * (high - low)}};
}

// The value that a share of the values does not exceed, from a sample of them.
export function quantile(values, share) {
  const some = [];
  const every = Math.max(1, Math.floor(values.length / 50000));
  for (let i = 0; i < values.length; i += every) if (!Number.isNaN(values[i])) some.push(values[i]);
  some.sort((a, b) => a - b);
  return some.length ? some[Math.min(some.length - 1, Math.floor(share * some.length))] : NaN;
}
