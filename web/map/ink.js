// What is written on maps and pictures: tones of the page, words that stand out from the ground, a bar of length.
import { roundBelow } from '../base/numbers.js';

// A tone of the page as it is now, light or dark: "ink", "paper", "accent".
export function tone(name) {
  return getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
}

export function words(c, text, x, y, align = 'left', {font = '11.5px', around = 'ground', width = 3} = {}) {
  c.font = `${font} "DejaVu Sans", sans-serif`;
  c.textAlign = align;
  c.lineWidth = width;
  c.strokeStyle = tone(around);
  c.strokeText(text, x, y);
  c.fillStyle = tone('ink');
  c.fillText(text, x, y);
}

// A bar that ends (or begins) at (x, y), of a round length of about 120 pixels; `metres`: of a pixel.
export function bar(c, x, y, metres, align = 'right') {
  const long = roundBelow(120 * metres);
  const wide = long / metres;
  if (!(wide > 10 && wide < 300)) return;
  const from = align === 'right' ? x - wide : x;
  c.fillStyle = tone('ground');
  c.fillRect(from - 2, y - 2, wide + 4, 6);
  c.fillStyle = tone('ink');
  c.fillRect(from, y, wide, 2);
  words(c, long >= 1000 ? `${long / 1000} km` : `${long} m`, x, y - 5, align);
}

// The same outline in two strokes, so that it is seen on any ground: what is below, and its colour.
export function outlined(c, wide, colour, below = tone('paper'), narrow = wide / 2) {
  for (const [width, stroke] of [[wide, below], [narrow, colour]]) {
    c.lineWidth = width;
    c.strokeStyle = stroke;
    c.stroke();
  }
}
