// Numbers as people read them.

// So many decimals as a step has: 0.001 gives three.
export function decimalsOf(step) {
  return Math.max(0, Math.min(9, Math.ceil(-Math.log10(step) - 1e-9)));
}

// A minus sign, no negative zero, thin spaces between thousands.
export function numeral(value, decimals) {
  if (!Number.isFinite(value)) return '–';
  let text = Math.abs(value).toFixed(decimals);
  const [whole, part] = text.split('.');
  const grouped = whole.length > 4 ? whole.replace(/\B(?=(\d{3})+$)/g, '\u202f') : whole;
  text = part ? `${grouped}.${part}` : grouped;
  return value < 0 && /[1-9]/.test(text) ? `−${text}` : text;
}

// Metres as text; in the unit of the heights where that is a foot.
export function lengthText(metres, unit, metresPerUnit) {
  const value = metres / metresPerUnit;
  const decimals = Math.abs(value) < 100 ? 2 : Math.abs(value) < 10000 ? 1 : 0;
  return `${numeral(value, decimals)} ${unit}`;
}
export function areaText(squareMetres) {
  if (squareMetres >= 1e6) return `${numeral(squareMetres / 1e6, 3)} km²`;
  if (squareMetres >= 1e4) return `${numeral(squareMetres / 1e4, 3)} ha`;
  return `${numeral(squareMetres, 1)} m²`;
}
export function volumeText(cubicMetres) {
  return `${numeral(cubicMetres, cubicMetres < 1000 ? 1 : 0)} m³`;
}

// 31°00′12.3″ W: to about 3 m with one decimal.
export function degreesText(value, [positive, negative]) {
  const tenths = Math.round(Math.abs(value) * 36000);
  const seconds = (tenths % 600) / 10;
  const minutes = Math.floor(tenths / 600) % 60;
  const whole = Math.floor(tenths / 36000);
  const two = (n) => String(n).padStart(2, '0');
  return `${whole}°${two(minutes)}′${seconds < 10 ? '0' : ''}${seconds.toFixed(1)}″ ${value < 0 ? negative : positive}`;
}

// The largest of 1, 2 and 5 times a power of ten that is not above.
export function roundBelow(value) {
  const power = 10 ** Math.floor(Math.log10(value) + 1e-12);
  return (value / power >= 5 ? 5 : value / power >= 2 ? 2 : 1) * power;
}

// Multiples of a round step that lie in [low, high], about `wanted` of them.
export function ticks(low, high, wanted) {
  if (!(high > low)) return [low];
  let step = roundBelow((high - low) / wanted);
  if ((high - low) / step > 1.6 * wanted) step *= 2;
  const list = [];
  for (let i = Math.ceil(low / step - 1e-9); i * step <= high + 1e-9 * step; ++i) list.push(i * step || 0);
  return list;
}
