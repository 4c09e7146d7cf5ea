#include "marrowick.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <limits>
#include <numbers>

namespace marrowick {
namespace {

std::uint64_t mixed(std::uint64_t h) {
  h ^= h >> 33;
  h *= 0xff51afd7ed558ccdu;
  h ^= h >> 33;
  h *= 0xc4ceb9fe1a85ec53u;
  return h ^ h >> 33;
}

double unit(std::int64_t i, std::int64_t j, std::uint64_t seed) {
  const auto h = mixed(static_cast<std::uint64_t>(i) * 0x9E3779B97F4A7C15u ^
                       mixed(static_cast<std::uint64_t>(j) + seed * 0xD1B54A32D192ED03u));
  return static_cast<double>(h >> 11) / 9007199254740992.0;
}

double smooth(double t) { return t * t * t * (t * (6 * t - 15) + 10); }
double step(double from, double to, double x) { return smooth(std::clamp((x - from) / (to - from), 0.0, 1.0)); }

// Smooth noise of wave length 1.
double value_noise(double x, double y, std::uint64_t seed) {
  const double fx = std::floor(x), fy = std::floor(y);
  const auto i = static_cast<std::int64_t>(fx), j = static_cast<std::int64_t>(fy);
  const double u = smooth(x - fx), v = smooth(y - fy);
  const double a = noise(i, j, seed), b = noise(i + 1, j, seed), c = noise(i, j + 1, seed),
               d = noise(i + 1, j + 1, seed);
  return (a + u * (b - a)) + v * ((c + u * (d - c)) - (a + u * (b - a)));
}

// The smaller of two, rounded over about `width` where they meet.
double smooth_min(double a, double b, double width) {
  const double t = std::clamp(0.5 + 0.5 * (b - a) / width, 0.0, 1.0);
  return b + (a - b) * t - width * t * (1 - t) * 0.5;
}
// A distance whose corner at zero is rounded.
double soft(double d, double width) { return std::sqrt(d * d + width * width) - width; }

struct Vertex {
  double x, y, bed;
};

// How far the line is, and its bed there. All of the line has a say that fades with distance, so that both are smooth
// everywhere, also where two bends are equally near.
struct Near {
  double distance, bed, along;
};
template <std::size_t N>
Near near(const Vertex (&line)[N], double x, double y, double fade) {
  double weight = 0, bed = 0, along = 0, length = 0, closest = 1e9;
  constexpr int kPieces = 12;
  double d[(N - 1) * kPieces + 1], b[(N - 1) * kPieces + 1], l[(N - 1) * kPieces + 1];
  std::size_t n = 0;
  for (std::size_t k = 0; k + 1 < N; ++k) {
    const double whole = std::hypot(line[k + 1].x - line[k].x, line[k + 1].y - line[k].y);
    for (int i = 0; i < kPieces + (k + 2 == N ? 1 : 0); ++i) {
      const double t = static_cast<double>(i) / kPieces;
      const double dx = x - line[k].x - t * (line[k + 1].x - line[k].x);
      const double dy = y - line[k].y - t * (line[k + 1].y - line[k].y);
      d[n] = std::sqrt(dx * dx + dy * dy);
      b[n] = line[k].bed + t * (line[k + 1].bed - line[k].bed);
      l[n] = length + t * whole;
      closest = std::min(closest, d[n++]);
    }
    length += whole;
  }
  for (std::size_t i = 0; i < n; ++i) {
    const double fades = (d[i] - closest) / fade;
    if (fades > 40) continue;  // 4e-18 and less
    const double w = std::exp(-fades);
    weight += w;
    bed += w * b[i];
    along += w * l[i];
  }
  return {std::max(0.0, closest - 0.25 * fade * std::log(weight)), bed / weight, along / weight};
}

// Annet Water, from its spring to the head of the inlet, and Kessa Inlet out to the open sea.
constexpr Vertex kStream[] = {{-520, 420, 262}, {-180, 260, 196}, {60, -20, 128},   {210, -260, 74},
                              {470, -420, 38},  {690, -600, 12},  {860, -760, 1.5}, {960, -830, -0.6}};
// A road crosses the Annet on a bank of 2.6 m; a culvert lets the stream through below, which no survey from above
// sees. From slope to slope; the bed is the height of the road.
constexpr Vertex kRoad[] = {{714, -682, 12.5}, {756, -650, 12.5}, {808, -611, 12.5}};
constexpr double kHalfRoad = 2, kRoadFall = 1 / 1.6;
// An old quarry south of the inlet holds water after rain: a level floor within walls.
constexpr Vertex kQuarry = {1085, -1246, 21.3};
constexpr double kQuarryEast = 17, kQuarryNorth = 11, kQuarryWalls = 1.2;
constexpr Vertex kInlet[] = {{930, -800, 0.4},     {1020, -900, -2.6},   {1180, -1010, -6.0}, {1330, -1180, -9.5},
                             {1470, -1420, -13.0}, {1640, -1800, -18.0}, {1900, -2400, -30.0}};

double road(double x, double y) {
  double top = -1e9;
  for (std::size_t k = 0; k + 1 < std::size(kRoad); ++k) {
    const Vertex &a = kRoad[k], &b = kRoad[k + 1];
    const double dx = b.x - a.x, dy = b.y - a.y,
                 t = std::clamp(((x - a.x) * dx + (y - a.y) * dy) / (dx * dx + dy * dy), 0.0, 1.0),
                 beside = std::hypot(x - a.x - t * dx, y - a.y - t * dy);
    top = std::max(top, a.bed + t * (b.bed - a.bed) - kRoadFall * std::max(0.0, beside - kHalfRoad));
  }
  return top;
}
double quarry(double x, double y) {
  const double out = std::hypot((x - kQuarry.x) / kQuarryEast, (y - kQuarry.y) / kQuarryNorth) - 1;
  return kQuarry.bed + kQuarryWalls * kQuarryNorth * std::max(0.0, out);
}

}  // namespace

double noise(std::int64_t i, std::int64_t j, std::uint64_t seed) { return 2 * unit(i, j, seed) - 1; }

double normal(std::int64_t i, std::int64_t j, std::uint64_t seed) {
  const double u = std::max(1e-12, unit(i, j, seed)), v = unit(i, j, seed + 7777);
  return std::sqrt(-2 * std::log(u)) * std::cos(2 * std::numbers::pi * v);
}

double ground(double x, double y) {
  const double wx = x + 240 * value_noise(x / 1100, y / 1100, 1) + 60 * value_noise(x / 300, y / 300, 2);
  const double wy = y + 240 * value_noise(x / 1100, y / 1100, 3) + 60 * value_noise(x / 300, y / 300, 4);
  const double r = std::hypot(wx / 2900, wy / 1900);
  double h = r < 1 ? 250 * (1 - r * r) : -70 * (1 - std::exp(-(r - 1) * 4.5));
  const double inland = step(-4, 30, h);
  h += 158 * std::exp(-(std::pow(x + 640, 2) + std::pow(y - 350, 2)) / (2 * 560.0 * 560.0)) * inland;
  h += 70 * std::exp(-(std::pow(x - 1500, 2) / (2 * 420.0 * 420.0) + std::pow(y - 250, 2) / (2 * 300.0 * 300.0))) *
       inland;
  // Tolvane Ridge: a scarp of 60 m that runs north-east across the western half.
  const double along = 0.78 * (x + 1500) + 0.62 * y, across = -0.62 * (x + 1500) + 0.78 * y;
  h += 30 * std::tanh(across / 14) * step(-900, -500, along) * (1 - step(500, 900, along)) * inland;
  // The stream has cut its valley, the sea has drowned its lower end; both wind a little.
  const double mx = x + 46 * value_noise(x / 310, y / 310, 21) + 14 * value_noise(x / 95, y / 95, 22);
  const double my = y + 46 * value_noise(x / 310, y / 310, 23) + 14 * value_noise(x / 95, y / 95, 24);
  const Near stream = near(kStream, mx, my, 28);
  h = smooth_min(h, stream.bed + 0.11 * soft(stream.distance, 10) + stream.distance * stream.distance / 1900, 30);
  const Near inlet = near(kInlet, mx, my, 34);
  const double bank = std::max(0.0, inlet.distance - 34 - 0.06 * inlet.along);
  h = smooth_min(h, inlet.bed + 0.10 * soft(bank, 14) + bank * bank / 2100, 24);
  // Hummocks of every size, weaker under water and on the valley floor.
  const double rough = 0.22 + 0.78 * step(-2, 30, h);
  h += rough * (7.0 * value_noise(x / 230, y / 230, 11) + 2.6 * value_noise(x / 90, y / 90, 12) +
                1.0 * value_noise(x / 38, y / 38, 13) + 0.35 * value_noise(x / 15, y / 15, 14));
  // What people have built and dug.
  return std::min(std::max(h, road(x, y)), quarry(x, y));
}

double ground_utm(double easting, double northing) { return ground(easting - kCentreEast, northing - kCentreNorth); }

namespace {

constexpr double kNothing = std::numeric_limits<double>::quiet_NaN();

// Poles of the power line.
constexpr Vertex kPoles[] = {{640, -560, 0}, {800, -620, 0}, {960, -700, 0}, {1130, -770, 0}, {1300, -800, 0}};
constexpr double kPoleHeight = 14, kSag = 2.5;

double hash_at(double i, double j, std::uint64_t seed) {
  return noise(static_cast<std::int64_t>(i), static_cast<std::int64_t>(j), seed);
}

}  // namespace

// The same houses that left holes in the ground survey of 2022, where the ground is dry.
double roof(double x, double y) {
  const double e = x + kCentreEast, n = y + kCentreNorth, cell = 110, i = std::floor(e / cell),
               j = std::floor(n / cell);
  if (hash_at(i, j, 51) <= 0.15) return kNothing;
  const double cx = (i + 0.5 + 0.3 * hash_at(i, j, 52)) * cell, cy = (j + 0.5 + 0.3 * hash_at(i, j, 53)) * cell;
  const double wide = 4 + hash_at(i, j, 54), long_ = 5 + hash_at(i, j, 55);
  if (std::abs(e - cx) >= wide || std::abs(n - cy) >= long_) return kNothing;
  const double base = ground(cx - kCentreEast, cy - kCentreNorth);
  if (base < 2) return kNothing;
  return base + 3.2 + 0.55 * (wide - std::abs(e - cx));
}

double canopy(double x, double y) {
  // The plantation: an ellipse with a ragged edge, rows of pines five metres apart.
  const double inside =
      std::pow((x - 780) / 170, 2) + std::pow((y + 480) / 120, 2) + 0.25 * value_noise(x / 40, y / 40, 71);
  if (inside > 1) return kNothing;
  double top = kNothing;
  const double step = 5, i0 = std::floor(x / step), j0 = std::floor(y / step);
  for (double i = i0 - 1; i <= i0 + 1; ++i)
    for (double j = j0 - 1; j <= j0 + 1; ++j) {
      if (hash_at(i, j, 72) > 0.8) continue;  // a gap
      const double tx = (i + 0.5 + 0.2 * hash_at(i, j, 73)) * step, ty = (j + 0.5 + 0.2 * hash_at(i, j, 74)) * step;
      const double crown = 2.3 + 0.4 * hash_at(i, j, 75), tall = 12 + 3 * hash_at(i, j, 76),
                   d = std::hypot(x - tx, y - ty);
      if (d >= crown) continue;
      const double h = ground(tx, ty) + tall * (1 - 0.45 * d * d / (crown * crown));
      if (!(top >= h)) top = h;
    }
  return top;
}

double wire(double x, double y) {
  for (std::size_t k = 0; k + 1 < std::size(kPoles); ++k) {
    const Vertex &a = kPoles[k], &b = kPoles[k + 1];
    const double dx = b.x - a.x, dy = b.y - a.y, t = ((x - a.x) * dx + (y - a.y) * dy) / (dx * dx + dy * dy);
    if (t < 0 || t > 1 || std::hypot(x - a.x - t * dx, y - a.y - t * dy) > 0.5) continue;
    const double za = std::max(0.0, ground(a.x, a.y)) + kPoleHeight, zb = std::max(0.0, ground(b.x, b.y)) + kPoleHeight;
    return za + t * (zb - za) - 4 * kSag * t * (1 - t);
  }
  return kNothing;
}

double geoid(double x, double y) { return 14.62 + 0.00009 * x - 0.00006 * y; }

}  // namespace marrowick
