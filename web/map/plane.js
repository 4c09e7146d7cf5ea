// The arithmetic of a map: places of a plane and pixels of a window. `wide` is how long a unit of x is when one of y is
// one: the cosine of the latitude in the middle for degrees, 1 for metres.

// All of a box in a window of so many pixels.
export function fitted(box, width, height, wide, margin = 0.06) {
  const [west, south, east, north] = box;
  const across = Math.max((east - west) * wide, 1e-12);
  const down = Math.max(north - south, 1e-12);
  const scale = Math.min(width / across, height / down) * (1 - 2 * margin);
  return {x: (west + east) / 2, y: (south + north) / 2, scale, wide};
}
export function toPixel(view, size, x, y) {
  return {x: size.width / 2 + (x - view.x) * view.wide * view.scale, y: size.height / 2 - (y - view.y) * view.scale};
}
export function toPlace(view, size, px, py) {
  return {x: view.x + (px - size.width / 2) / (view.wide * view.scale), y: view.y - (py - size.height / 2) / view.scale};
}
// Nearer by a factor above one, so that what lies under a pixel stays there.
export function zoomed(view, size, factor, px, py, least, most) {
  const scale = Math.min(Math.max(view.scale * factor, least), most);
  const at = toPlace(view, size, px, py);
  return {...view, scale, x: at.x - (px - size.width / 2) / (view.wide * scale), y: at.y + (py - size.height / 2) / scale};
}
export function dragged(view, dx, dy) {
  return {...view, x: view.x - dx / (view.wide * view.scale), y: view.y + dy / view.scale};
}
export function seen(view, size) {
  const a = toPlace(view, size, 0, size.height);
  const b = toPlace(view, size, size.width, 0);
  return [a.x, a.y, b.x, b.y];
}

// Boxes by the squares of a raster, so that those under a point are found without looking at all.
export class Boxes {
  // `boxes`: [west, south, east, north] each.
  constructor(boxes) {
    this.boxes = boxes;
    this.all = [Infinity, Infinity, -Infinity, -Infinity];
    for (const [w, s, e, n] of boxes) {
      this.all = [Math.min(this.all[0], w), Math.min(this.all[1], s), Math.max(this.all[2], e), Math.max(this.all[3], n)];
    }
    this.n = Math.max(1, Math.min(128, Math.ceil(Math.sqrt(boxes.length))));
    this.squares = Array.from({length: this.n * this.n}, () => []);
    boxes.forEach((b, i) => {
      const [c0, r0] = this.square(b[0], b[1]);
      const [c1, r1] = this.square(b[2], b[3]);
      for (let r = r0; r <= r1; ++r) for (let c = c0; c <= c1; ++c) this.squares[r * this.n + c].push(i);
    });
  }
  square(x, y) {
    const [w, s, e, n] = this.all;
    const at = (v, low, high) => Math.min(Math.max(Math.floor(((v - low) / (high - low || 1)) * this.n), 0), this.n - 1);
    return [at(x, w, e), at(y, s, n)];
  }
  // Numbers of the boxes that hold a place.
  at(x, y) {
    if (!(x >= this.all[0] && x <= this.all[2] && y >= this.all[1] && y <= this.all[3])) return [];
    const [c, r] = this.square(x, y);
    return this.squares[r * this.n + c].filter((i) => {
      const [w, s, e, n] = this.boxes[i];
      return x >= w && x <= e && y >= s && y <= n;
    });
  }
}

// Whether a place lies in polygons of rings (the first outside, others holes): by sides to the east of it.
export function inShape(shape, x, y) {
  let inside = false;
  for (const rings of shape) {
    for (const ring of rings) {
      for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
        const [ax, ay] = ring[i];
        const [bx, by] = ring[j];
        if (ay > y !== by > y && x < ((bx - ax) * (y - ay)) / (by - ay) + ax) inside = !inside;
      }
    }
  }
  return inside;
}
export function boxOf(shape) {
  const box = [Infinity, Infinity, -Infinity, -Infinity];
  for (const rings of shape) {
    for (const [x, y] of rings[0]) {
      box[0] = Math.min(box[0], x);
      box[1] = Math.min(box[1], y);
      box[2] = Math.max(box[2], x);
      box[3] = Math.max(box[3], y);
    }
  }
  return box;
}

// Around the boxes of a usual size: one that holds a whole degree does not hide the sheets of a valley. Null for none.
export function usualBox(boxes) {
  if (boxes.length === 0) return null;
  const size = ([w, s, e, n]) => Math.max(e - w, n - s);
  const middle = boxes.map(size).sort((a, b) => a - b)[boxes.length >> 1];
  const all = [Infinity, Infinity, -Infinity, -Infinity];
  for (const b of boxes) {
    if (size(b) > 8 * middle) continue;
    [all[0], all[1], all[2], all[3]] = [Math.min(all[0], b[0]), Math.min(all[1], b[1]), Math.max(all[2], b[2]), Math.max(all[3], b[3])];
  }
  return all;
}

// About which share of a shape the others cover together, by a raster of places; nothing for an empty one.
export function shareCovered(shape, others, across = 120) {
  const [w, s, e, n] = boxOf(shape);
  const boxes = new Boxes(others.map(boxOf));
  let inside = 0;
  let covered = 0;
  for (let r = 0; r < across; ++r) {
    for (let c = 0; c < across; ++c) {
      const x = w + ((e - w) * (c + 0.5)) / across;
      const y = s + ((n - s) * (r + 0.5)) / across;
      if (!inShape(shape, x, y)) continue;
      ++inside;
      if (others.length > 0 && boxes.at(x, y).some((i) => inShape(others[i], x, y))) ++covered;
    }
  }
  return inside === 0 ? null : covered / inside;
}

// Steps of a graticule in degrees: whole parts of degrees, minutes and seconds.
const STEPS = [30, 20, 10, 5, 2, 1, 1 / 2, 1 / 3, 1 / 6, 1 / 12, 1 / 30, 1 / 60, 1 / 120, 1 / 180, 1 / 360, 1 / 720, 1 / 1800, 1 / 3600, 1 / 7200, 1 / 18000, 1 / 36000];
export function graticuleStep(span, most) {
  let best = STEPS[0];
  for (const step of STEPS) if (span / step <= most) best = step;
  return best;
}
// 31°03′ W: as many parts as the step needs.
export function graticuleText(value, step, [positive, negative]) {
  const tenths = Math.round(Math.abs(value) * 36000);
  const d = Math.floor(tenths / 36000);
  const m = Math.floor(tenths / 600) % 60;
  const s = (tenths % 600) / 10;
  const two = (v) => String(v).padStart(2, '0');
  let text = `${d}°`;
  if (step < 1) text += `${two(m)}′`;
  if (step < 1 / 60 - 1e-9) text += `${step < 1 / 3600 - 1e-9 ? s.toFixed(1).padStart(4, '0') : two(Math.round(s))}″`;
  return tenths === 0 ? text : `${text} ${value < 0 ? negative : positive}`;
}
