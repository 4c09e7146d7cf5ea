// How surely `check` finds each flaw, and how often it cries without one: every kind is planted into clean analytic
// surfaces at random places, at the documented smallest size and at random larger sizes, and the same number of clean
// surfaces is checked. Prints the table of docs/check.md.
//
//   build/bin/flaws [SURFACES]
#include <atomic>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <mutex>
#include <numbers>
#include <random>
#include <set>
#include <string>
#include <vector>

#include "katoptra/base/parallel.hpp"
#include "katoptra/check/check.hpp"
#include "katoptra/points/points.hpp"
#include "katoptra/surface/mosaic.hpp"

#include "bench.hpp"

namespace {

using namespace katoptra;
using Random = std::mt19937_64;

double between(Random& r, double a, double b) { return std::uniform_real_distribution<double>(a, b)(r); }
std::int64_t pick(Random& r, std::int64_t a, std::int64_t b) {
  return std::uniform_int_distribution<std::int64_t>(a, b)(r);
}

// Rolling ground with hills and, in every other one, a scarp; heights in metres over coordinates in cells.
class Land {
 public:
  explicit Land(Random& r) {
    for (int i = 0; i < 7; ++i) {
      const double wave = std::exp(between(r, std::log(70.0), std::log(700.0))), turn = between(r, 0, std::numbers::pi);
      waves_.push_back(
          {std::cos(turn) / wave, std::sin(turn) / wave, between(r, 0, 6.28), wave * between(r, 0.005, 0.03)});
    }
    for (int i = 0; i < 4; ++i)
      hills_.push_back({between(r, 0, 600), between(r, 0, 600), between(r, 25, 120), between(r, -12, 25)});
    scarp_ = r() % 2 ? between(r, 2, 25) : 0;
    turn_ = between(r, 0.2, 1.3);
    level_ = between(r, 20, 900);
  }
  double at(double x, double y) const {
    double z = level_;
    for (const Wave& w : waves_) z += w.height * std::sin(2 * std::numbers::pi * (w.x * x + w.y * y) + w.phase);
    for (const Hill& h : hills_)
      z += h.height * std::exp(-((x - h.x) * (x - h.x) + (y - h.y) * (y - h.y)) / (2 * h.width * h.width));
    return z + scarp_ * std::tanh((std::cos(turn_) * (x - 200) + std::sin(turn_) * (y - 200)) / 5);
  }

 private:
  struct Wave {
    double x, y, phase, height;
  };
  struct Hill {
    double x, y, width, height;
  };
  std::vector<Wave> waves_;
  std::vector<Hill> hills_;
  double scarp_ = 0, turn_ = 0, level_ = 0;
};

struct Surface {
  Land land;
  Frame frame;
  Quantity quantity;
  double noise = 0, rounding = 0;
  std::vector<float> z;  // in the unit of the quantity

  explicit Surface(Random& r) : land(r) {
    const std::int64_t cols = pick(r, 520, 760), rows = pick(r, 520, 760);
    const double cell = between(r, 0.5, 5);
    quantity = bench::heights();
    if (r() % 5 == 0)
      frame = Frame(Crs::wgs84(), -31, -37.5, {cell / 88000, cell / 111000}, cols, rows);
    else
      frame = Frame(Crs::parse("EPSG:32725"), 676000, 5842000, {cell, cell}, cols, rows);
    if (r() % 4 == 0) quantity.unit = LengthUnit::Foot;
    noise = between(r, 0.01, 0.05);
    rounding = r() % 2 ? 0.01 : 0;
    z = drawn(r, [&](double x, double y) { return land.at(x, y); });
  }
  double unit() const { return metres_per(quantity.unit); }
  // A survey of this land: noise of its own, rounded as it is kept.
  template <class Height>
  std::vector<float> drawn(Random& r, const Height& height) const {
    std::normal_distribution<double> jitter(0, noise);
    std::vector<float> out;
    for (std::int64_t row = 0; row < frame.rows(); ++row)
      for (std::int64_t c = 0; c < frame.cols(); ++c) {
        double v = (height(static_cast<double>(c), static_cast<double>(row)) + jitter(r)) / unit();
        if (rounding > 0) v = std::round(v / rounding) * rounding;
        out.push_back(static_cast<float>(v));
      }
    return out;
  }
  float& at(std::int64_t c, std::int64_t r) { return z[static_cast<std::size_t>(r * frame.cols() + c)]; }
  void raise(std::int64_t c, std::int64_t r, double metres) { at(c, r) += static_cast<float>(metres / unit()); }
  Grid grid(const std::string& name = "surface") const {
    return grid_from_values(frame, z, quantity, SampleType::Float32, name);
  }
};

// What one trial gives: the codes that were found.
using Codes = std::set<std::string>;

Codes codes_of(const std::vector<Finding>& findings) {
  Codes c;
  for (const Finding& f : findings)
    if (f.severity != Severity::Note || f.code == "flat") c.insert(f.code);
  return c;
}

RunOptions one() { return {.threads = 1}; }
Codes checked(const Surface& s) { return codes_of(check(s.grid(), {.run = one()}).findings); }

struct Kind {
  std::string code, what;
  double least;  // smallest size, in what `what` says
  std::function<Codes(Random&, double size)> trial;
};

// ---- flaws within one surface

Codes spikes(Random& r, double size, std::int64_t edge) {
  Surface s(r);
  const double h = size * std::max(0.6, 20 * s.noise) * (r() % 2 ? 1 : -1);
  const std::int64_t c = pick(r, 0, s.frame.cols() - edge), row = pick(r, 0, s.frame.rows() - edge);
  for (std::int64_t j = 0; j < edge; ++j)
    for (std::int64_t i = 0; i < edge; ++i) s.raise(c + i, row + j, h);
  return checked(s);
}

Codes lines(Random& r, double size, std::int64_t wide, bool step) {
  Surface s(r);
  const bool column = r() % 2;
  const std::int64_t along = column ? s.frame.rows() : s.frame.cols(),
                     across = column ? s.frame.cols() : s.frame.rows();
  const std::int64_t from = pick(r, 0, along - 512), at = pick(r, 8, across - wide - 8);
  const double h = size * (r() % 2 ? 1 : -1);
  for (std::int64_t k = from; k < from + 512; ++k)
    for (std::int64_t i = at; i < (step ? across : at + wide); ++i) column ? s.raise(i, k, h) : s.raise(k, i, h);
  return checked(s);
}

Codes ripple(Random& r, double size) {
  Surface s(r);
  const bool column = r() % 2;
  const double period = between(r, 2.5, 12), phase = between(r, 0, 6);
  for (std::int64_t row = 0; row < s.frame.rows(); ++row)
    for (std::int64_t c = 0; c < s.frame.cols(); ++c)
      s.raise(c, row, size * std::sin(2 * std::numbers::pi * static_cast<double>(column ? c : row) / period + phase));
  return checked(s);
}

// An angle that is neither along rows nor along columns.
double oblique_angle(Random& r) {
  return between(r, 0.1, std::numbers::pi / 2 - 0.1) + (r() % 2 ? std::numbers::pi / 2 : 0);
}

// Across the whole surface, not far from its middle.
Codes oblique_step(Random& r, double size) {
  Surface s(r);
  const double a = oblique_angle(r), off = between(r, -60, 60), h = size * (r() % 2 ? 1 : -1);
  const double x0 = static_cast<double>(s.frame.cols()) / 2, y0 = static_cast<double>(s.frame.rows()) / 2;
  for (std::int64_t row = 0; row < s.frame.rows(); ++row)
    for (std::int64_t c = 0; c < s.frame.cols(); ++c)
      if ((static_cast<double>(c) - x0) * std::sin(a) + (static_cast<double>(row) - y0) * std::cos(a) > off)
        s.raise(c, row, h);
  return checked(s);
}

Codes oblique_ripple(Random& r, double size) {
  Surface s(r);
  const double a = oblique_angle(r), wave = 2 * std::numbers::pi / between(r, 2.5, 12), phase = between(r, 0, 6);
  for (std::int64_t row = 0; row < s.frame.rows(); ++row)
    for (std::int64_t c = 0; c < s.frame.cols(); ++c)
      s.raise(c, row,
              size * std::sin(wave * (std::cos(a) * static_cast<double>(c) + std::sin(a) * static_cast<double>(row)) +
                              phase));
  return checked(s);
}

// Nearest neighbour from a lattice that is turned a little and `size` times as coarse.
Codes repeated(Random& r, double size) {
  Surface s(r);
  const Surface coarse = s;
  const double turn = between(r, -0.01, 0.01), f = 1 / size;
  for (std::int64_t row = 0; row < s.frame.rows(); ++row)
    for (std::int64_t c = 0; c < s.frame.cols(); ++c) {
      const double x = static_cast<double>(c), y = static_cast<double>(row);
      const auto i = std::clamp<std::int64_t>(std::llround(f * (x + turn * y)), 0, s.frame.cols() - 1),
                 j = std::clamp<std::int64_t>(std::llround(f * (y - turn * x)), 0, s.frame.rows() - 1);
      s.at(c, row) = coarse.z[static_cast<std::size_t>(j * s.frame.cols() + i)];
    }
  return checked(s);
}

Codes terraces(Random& r, double size) {
  Surface s(r);
  for (float& z : s.z) z = static_cast<float>(std::round(static_cast<double>(z) / size) * size);
  return checked(s);
}

Codes patch(Random& r, double size, bool plane, double rounded_to = 0) {
  Surface s(r);
  const auto edge = static_cast<std::int64_t>(std::ceil(std::sqrt(size)));
  const std::int64_t c0 = pick(r, 0, s.frame.cols() - edge), r0 = pick(r, 0, s.frame.rows() - edge);
  const double x = plane ? between(r, 0.02, 0.3) : 0, y = plane ? between(r, 0.02, 0.3) : 0,
               z = static_cast<double>(s.at(c0, r0));
  for (std::int64_t j = 0; j < edge; ++j)
    for (std::int64_t i = 0; i < edge; ++i) {
      const double v = z + x * static_cast<double>(i) + y * static_cast<double>(j);
      s.at(c0 + i, r0 + j) = static_cast<float>(rounded_to > 0 ? std::round(v / rounded_to) * rounded_to : v);
    }
  return checked(s);
}

Codes voids(Random& r, double size, float value) {
  Surface s(r);
  for (int i = 0; i < static_cast<int>(size); ++i)
    s.at(pick(r, 1, s.frame.cols() - 2), pick(r, 1, s.frame.rows() - 2)) = value;
  return checked(s);
}

Codes seam(Random& r, double size) {
  Surface s(r);
  Surface other = s;
  other.z = s.drawn(r, [&](double x, double y) { return s.land.at(x, y) + size; });
  const std::int64_t cut_at = pick(r, 120, s.frame.cols() - 120);
  for (std::int64_t row = 0; row < s.frame.rows(); ++row) {
    for (std::int64_t c = cut_at; c < s.frame.cols(); ++c) s.at(c, row) = kVoid;
    for (std::int64_t c = 0; c < cut_at; ++c) other.at(c, row) = kVoid;
  }
  return codes_of(
      check(mosaic({s.grid("west"), other.grid("east")}, {.prefer = {Preference::Given}}), {.run = one()}).findings);
}

Codes sign(Random& r, double) {
  Surface s(r);
  s.quantity.surface = SurfaceKind::SeaFloor;
  return checked(s);
}

// A dam across a stream that follows the steepest way down.
Codes uphill(Random& r, double size) {
  Surface s(r);
  std::int64_t c = s.frame.cols() / 2, row = s.frame.rows() / 2;
  LineString line;
  std::vector<std::pair<std::int64_t, std::int64_t>> cells;
  for (int i = 0; i < 400; ++i) {
    line.push_back(s.frame.centre(static_cast<double>(c), static_cast<double>(row)));
    cells.emplace_back(c, row);
    std::pair<std::int64_t, std::int64_t> next{c, row};
    double low = s.land.at(static_cast<double>(c), static_cast<double>(row));
    for (std::int64_t dy = -1; dy <= 1; ++dy)
      for (std::int64_t dx = -1; dx <= 1; ++dx)
        if (const double z = s.land.at(static_cast<double>(c + dx), static_cast<double>(row + dy)); z < low) {
          low = z;
          next = {c + dx, row + dy};
        }
    if (next == std::pair{c, row} || next.first < 4 || next.second < 4 || next.first > s.frame.cols() - 5 ||
        next.second > s.frame.rows() - 5)
      break;
    std::tie(c, row) = next;
  }
  if (line.size() < 40) return uphill(r, size);
  if (size > 0) {
    const auto [dc, dr] = cells[cells.size() / 2];
    // As high as the water above it must climb, whatever the slope takes away.
    const double below = static_cast<double>(s.at(dc, dr)) * s.unit();
    for (std::int64_t j = -2; j <= 2; ++j)
      for (std::int64_t i = -2; i <= 2; ++i) {
        const auto [uc, ur] = cells[cells.size() / 2 - 4];
        const double above = std::max(s.land.at(static_cast<double>(uc), static_cast<double>(ur)), below);
        s.at(dc + i, dr + j) = static_cast<float>((above + size) / s.unit());
      }
  }
  const Layer layer{.name = "stream", .crs = s.frame.crs(), .features = {{line, {}, {}}}};
  return codes_of(check(s.grid(), {.streams = &layer, .run = one()}).findings);
}

// ---- flaws between two surfaces

struct TwoSurveys {
  Surface first;
  std::vector<float> second;
  Frame frame;
  Quantity quantity;
};

Codes compared(const TwoSurveys& p) {
  return codes_of(check_overlaps(
      {p.first.grid("first"), grid_from_values(p.frame, p.second, p.quantity, SampleType::Float32, "second")}, one()));
}

template <class Height>
Codes pair(Random& r, const Height& height, Point moved = {}, double factor = 1) {
  Surface s(r);
  const Frame& f = s.frame;
  std::vector<float> second = s.drawn(r, [&](double x, double y) { return height(s, x, y); });
  for (float& z : second) z *= static_cast<float>(factor);
  const Frame to(f.crs(), f.west() + moved.x * f.cell().x, f.north() + moved.y * f.cell().y, f.cell(), f.cols(),
                 f.rows());
  const Quantity q = s.quantity;
  return compared({std::move(s), std::move(second), to, q});
}

// ---- flaws of points

// A cloud of chance positions with `share` of the density that was ordered.
Codes sparse(Random& r, double share) {
  PointInfo info;
  info.crs = Crs::parse("EPSG:32725");
  info.quantity = bench::heights();
  info.name = "cloud";
  const double wanted = between(r, 2, 12), edge = 160;
  PointBatch b;
  for (int i = static_cast<int>(wanted * share * edge * edge); i > 0; --i) {
    b.x.push_back(676000 + between(r, 0, edge));
    b.y.push_back(5842000 - between(r, 0, edge));
    b.z.push_back(between(r, 0, 1));
  }
  info.count = b.x.size();
  info.bounds = {676000, 5842000 - edge, 676000 + edge, 5842000};
  Codes c = codes_of(check_points(points_from_batch(std::move(b), info), {.density = wanted, .run = one()}));
  return c;
}

// ---- the table

double level(const Surface& s, double x, double y) { return s.land.at(x, y); }

std::vector<Kind> kinds() {
  auto plain = [](double above) {
    return [above](const Surface& s, double x, double y) { return s.land.at(x, y) + above; };
  };
  return {
      {"spike", "single cell off by 0.6 m, and 20 × the noise", 1, [](Random& r, double k) { return spikes(r, k, 1); }},
      {"spike", "3 × 3 cells off by as much", 1, [](Random& r, double k) { return spikes(r, k, 3); }},
      {"stripe", "one row or column over 512 cells, metres", 0.07,
       [](Random& r, double h) { return lines(r, h, 1, false); }},
      {"stripe", "3 to 30 of them side by side, metres", 0.15,
       [](Random& r, double h) { return lines(r, h, pick(r, 3, 30), false); }},
      {"step", "along a row or column over 512 cells, metres", 0.15,
       [](Random& r, double h) { return lines(r, h, 1, true); }},
      {"ripple", "2.5 to 12 cells long, amplitude in metres", 0.03, ripple},
      {"step", "oblique, across the surface, metres", 0.15, oblique_step},
      {"ripple", "oblique, 2.5 to 12 cells long, amplitude in metres", 0.03, oblique_ripple},
      {"repeated", "nearest neighbour from cells so many times as large", 1.1, repeated},
      {"terraces", "heights in steps of so many metres", 1, terraces},
      {"flat", "cells", 2000, [](Random& r, double n) { return patch(r, n, false); }},
      {"plane", "cells", 600, [](Random& r, double n) { return patch(r, n, true); }},
      {"plane", "cells, rounded to 0.01 of the unit", 2500,
       [](Random& r, double n) { return patch(r, n, true, 0.01); }},
      {"voids", "cells", 1, [](Random& r, double n) { return voids(r, n, kVoid); }},
      {"undeclared-void", "cells of -9999", 2, [](Random& r, double n) { return voids(r, n, -9999); }},
      {"seam", "step between two sources, metres", 0.07, seam},
      {"sign", "depths as heights", 1, sign},
      {"uphill", "dam in a stream, metres", 0.4, uphill},
      {"offset", "between two surveys, metres", 0.06, [=](Random& r, double h) { return pair(r, plain(h)); }},
      {"tilt", "between two surveys, metres from end to end", 0.15,
       [](Random& r, double h) {
         return pair(r, [h](const Surface& s, double x, double y) {
           return s.land.at(x, y) + h * (x / static_cast<double>(s.frame.cols()) - 0.5);
         });
       }},
      {"datum", "between two surveys, metres", 5,
       [](Random& r, double h) {
         return pair(
             r, [h](const Surface& s, double x, double y) { return s.land.at(x, y) + h + 0.0003 * x + 0.0001 * y; });
       }},
      {"shift", "one tile beside the other, cells", 0.2,
       [](Random& r, double d) {
         const double a = between(r, 0, 6.28);
         return pair(r, level, {d * std::cos(a), d * std::sin(a)});
       }},
      {"rotation", "one tile turned, cells at its edge", 0.5,
       [](Random& r, double d) {
         return pair(r, [d](const Surface& s, double x, double y) {
           const double cx = static_cast<double>(s.frame.cols()) / 2, cy = static_cast<double>(s.frame.rows()) / 2,
                        t = d / cx;
           return s.land.at(x + t * (y - cy), y - t * (x - cx));
         });
       }},
      {"unit", "feet as metres", 1, [](Random& r, double) { return pair(r, level, {}, 1 / 0.3048); }},
      {"sparse", "share of the points that is missing", 0.25,
       [](Random& r, double m) { return sparse(r, 1 - std::min(m, 0.7)); }},
  };
}

// Runs `n` trials on all cores; how many of them found the code.
int found(int n, std::uint64_t seed, const std::string& code, const std::function<Codes(Random&, int)>& trial,
          std::map<std::string, int>* also = nullptr) {
  std::atomic<int> hits = 0;
  std::mutex lock;
  parallel_for(static_cast<std::size_t>(n), {}, [&](std::size_t i) {
    Random r(seed * 1'000'003 + i);
    const Codes c = trial(r, static_cast<int>(i));
    if (c.count(code)) ++hits;
    const std::lock_guard guard(lock);
    if (!also && !c.count(code) && std::getenv("FLAWS_MISSES")) {
      fmt::print(stderr, "{} missed in trial {} of seed {}; found:", code, i, seed);
      for (const std::string& k : c) fmt::print(stderr, " {}", k);
      fmt::print(stderr, "\n");
    }
    if (!also) return;
    for (const std::string& k : c) ++(*also)[k];
  });
  return hits;
}

}  // namespace

int main(int argc, char** argv) {
  const int n = argc > 1 ? std::atoi(argv[1]) : 200;
  const std::string only = argc > 2 ? argv[2] : "";
  std::map<std::string, int> alarms;
  found(
      n, 1, "", [](Random& r, int) { return codes_of(check(Surface(r).grid(), {.run = one()}).findings); }, &alarms);
  if (only.empty()) {
    found(
        n, 2, "", [](Random& r, int) { return pair(r, level); }, &alarms);
    found(
        n, 3, "", [](Random& r, int) { return seam(r, 0); }, &alarms);
    found(
        n, 4, "", [](Random& r, int) { return sparse(r, 1); }, &alarms);
    found(
        n, 5, "", [](Random& r, int) { return uphill(r, 0); }, &alarms);
  }
  for (const char* told : {"degrees"}) alarms.erase(told);
  fmt::print(
      "| code | what was planted | smallest size | found there | found at 1 to 4 times that | false alarms |\n"
      "|---|---|---|---|---|---|\n");
  bool good = true;
  std::uint64_t seed = 100;
  for (const Kind& k : kinds()) {
    ++seed;
    if (!only.empty() && k.code != only) continue;
    const double at_least = 100.0 * found(n, seed, k.code, [&](Random& r, int) { return k.trial(r, k.least); }) / n;
    const double larger =
        100.0 * found(n, seed + 1000, k.code, [&](Random& r, int) { return k.trial(r, k.least * between(r, 1, 4)); }) /
        n;
    const double false_alarms = 100.0 * alarms[k.code] / n;
    good = good && at_least >= 98 && larger >= 98 && false_alarms <= 2;
    fmt::print("| `{}` | {} | {:g} | {:.1f} % | {:.1f} % | {:.1f} % |\n", k.code, k.what, k.least, at_least, larger,
               false_alarms);
    std::fflush(stdout);
  }
  for (const auto& [code, count] : alarms)
    if (count > 0) fmt::print("\nfalse alarms of {}: {} of {}\n", code, count, n);
  fmt::print("\n{}: at least 98 % found, at most 2 % false alarms\n", good ? "holds" : "does not hold");
  return good ? 0 : 1;
}
