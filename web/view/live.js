// A surface that is too large for one page: parts of it by finer cells come from the service that shows the page, where
// one looks closely.

export const SIDE = 1024;

// Which cells are wanted: `seen`: metres a pixel is wide where one looks, `cell`: metres of the surface's own cells,
// `level`: of the page's. A level of 2 means cells 4 times as wide as the surface's own.
export function wantedLevel(seen, cell, level) {
  const wish = Math.floor(Math.log2(Math.max(1.3 * seen, 1e-9) / cell));
  return Math.min(Math.max(wish, 0), level);
}

// The part of the surface around a place of the page's frame, in cells of that level: {level, col, row, cols, rows}; begins
// at cells of the page. `live`: {level, cols, rows} of the whole.
export function partAround(live, level, col, row, side = SIDE) {
  const times = 2 ** (live.level - level);
  const size = (n) => Math.ceil(n / 2 ** level);
  const along = (at, n) => {
    const whole = size(n);
    const wide = Math.min(side, whole);
    const from = Math.min(Math.max(Math.round((at * times - wide / 2) / times) * times, 0), Math.max(0, whole - wide));
    return [from, wide];
  };
  const [c, cols] = along(col, live.cols);
  const [r, rows] = along(row, live.rows);
  return {level, col: c, row: r, cols, rows};
}

// Whether what is there does for a place: of the same level, and the place in its inner half.
export function stillGood(part, level, live, col, row) {
  if (!part || part.level !== level) return false;
  const times = 2 ** (live.level - level);
  const inner = (at, from, n, all) => {
    const a = at * times;
    return (a >= from + n / 4 || from === 0) && (a <= from + (3 * n) / 4 || from + n >= Math.ceil(all / 2 ** level));
  };
  return inner(col, part.col, part.cols, live.cols) && inner(row, part.row, part.rows, live.rows);
}

export class Service {
  constructor(live) {
    this.live = live;
    this.asked = 0;
  }
  // The answer as JSON; null when another question was asked meanwhile. Where a part is too large to be read at once,
  // the next finer level is taken. Throws when nobody answers.
  async part(level, col, row) {
    const number = ++this.asked;
    for (let l = level; l >= 0; --l) {
      const part = partAround(this.live, l, col, row);
      const reply = await fetch(`window?${query(part)}`);
      if (number !== this.asked) return null;
      if (reply.status === 413) continue;
      const answer = await reply.json();
      if (!reply.ok) throw new Error(answer.description);
      const points = this.live.points ? await (await fetch(`points?${query(part)}`)).json() : null;
      return number === this.asked ? {part, answer, points} : null;
    }
    return null;
  }
}
function query(part) {
  return new URLSearchParams(Object.entries(part).map(([k, v]) => [k, String(v)])).toString();
}
