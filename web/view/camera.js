// From where a surface is looked at. Everything in metres on the flat frame (x east, y north, z up), angles in degrees:
// `bearing` is the direction looked towards, clockwise from north; `tilt` how far down, 90 is straight down.
// Walking, (x, y) is where one stands; else it is what is looked at from `distance`.

const RADIANS = Math.PI / 180;
export const EYE = 1.7;
export const FIELD = 40;

export function direction(bearing, tilt) {
  const level = Math.cos(tilt * RADIANS);
  return {x: Math.sin(bearing * RADIANS) * level, y: Math.cos(bearing * RADIANS) * level, z: -Math.sin(tilt * RADIANS)};
}

export function eyeOf(view) {
  const d = direction(view.bearing, view.tilt);
  if (view.walks) return {x: view.x, y: view.y, z: view.z};
  return {x: view.x - d.x * view.distance, y: view.y - d.y * view.distance, z: view.z - d.z * view.distance};
}
export function upOf(view) {
  const t = view.tilt * RADIANS;
  const b = view.bearing * RADIANS;
  return {x: Math.sin(b) * Math.sin(t), y: Math.cos(b) * Math.sin(t), z: Math.cos(t)};
}

// All of a box `wide` x `high` metres, `up` metres thick around height z, in a window of that ratio of width to height.
export function fitted(wide, high, z, ratio, bearing = 0, tilt = 42) {
  const b = bearing * RADIANS;
  const across = Math.abs(wide * Math.cos(b)) + Math.abs(high * Math.sin(b));
  const deep = Math.abs(wide * Math.sin(b)) + Math.abs(high * Math.cos(b));
  const half = Math.tan((FIELD / 2) * RADIANS);
  const seen = deep * Math.sin(Math.max(tilt, 15) * RADIANS);
  const distance = Math.max(across / 2 / half / ratio, seen / 2 / half) * 1.06 + (deep / 2) * Math.cos(tilt * RADIANS);
  return {x: 0, y: 0, z, distance, bearing, tilt, walks: false};
}

export function turned(view, byBearing, byTilt) {
  const tilt = view.walks ? Math.min(Math.max(view.tilt + byTilt, -60), 60) : Math.min(Math.max(view.tilt + byTilt, 3), 90);
  return {...view, bearing: (((view.bearing + byBearing) % 360) + 360) % 360, tilt};
}
// Along the ground: metres to the right and ahead.
export function moved(view, right, ahead) {
  const b = view.bearing * RADIANS;
  return {...view, x: view.x + right * Math.cos(b) + ahead * Math.sin(b), y: view.y - right * Math.sin(b) + ahead * Math.cos(b)};
}
// Nearer by a factor below one; towards a place, when one is given.
export function zoomed(view, factor, towards, least, most) {
  const distance = Math.min(Math.max(view.distance * factor, least), most);
  const share = 1 - distance / view.distance;
  if (!towards) return {...view, distance};
  return {...view, distance, x: view.x + (towards.x - view.x) * share, y: view.y + (towards.y - view.y) * share,
    z: view.z + (towards.z - view.z) * share};
}
// Part of the way from one view to another, the short way around.
export function between(a, b, t) {
  const mix = (u, v) => u + (v - u) * t;
  const turn = ((b.bearing - a.bearing + 540) % 360) - 180;
  return {...b, x: mix(a.x, b.x), y: mix(a.y, b.y), z: mix(a.z, b.z), tilt: mix(a.tilt, b.tilt),
    bearing: (a.bearing + turn * t + 360) % 360,
    distance: a.walks || b.walks ? b.distance : Math.exp(mix(Math.log(a.distance), Math.log(b.distance)))};
}

// For the address of the page, and back; null for what is not such a text.
export function viewText(view) {
  const list = [view.x, view.y, view.z, view.distance].map((v) => String(Math.round(v * 100) / 100));
  list.push(view.bearing.toFixed(1), view.tilt.toFixed(1));
  return list.join(',') + (view.walks ? ',walk' : '');
}
export function viewFrom(text) {
  const parts = text.split(',');
  if (parts.length < 6 || parts.length > 7) return null;
  const [x, y, z, distance, bearing, tilt] = parts.slice(0, 6).map(Number);
  if (![x, y, z, distance, bearing, tilt].every(Number.isFinite) || !(distance > 0)) return null;
  const walks = parts[6] === 'walk';
  return turned({x, y, z, distance, bearing: 0, tilt: 0, walks}, bearing, tilt);
}
