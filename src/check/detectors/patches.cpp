// Flat patches (water, filled or clipped values) and tilted planes, as long triangles between far points leave them.
//
// Runs of at least kRun cells in a row that are flat (or plane) make regions. Planes that were rounded are looked for
// in squares of kSquare x kSquare cells: what departs from the best plane no more than rounding does.
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

#include "detector.hpp"
#include "regions.hpp"

namespace katoptra {
namespace {

constexpr std::int64_t kRun = 8;

using Run = RegionRun;  // with the value of a flat run; zero for planes
struct Part {
  std::vector<std::vector<Run>> flats, planes;  // by row
  std::vector<std::vector<Run>> rounded;        // by row of squares; columns of squares

  template <class Fields>
  void fields(Fields& f) {
    f(flats, planes, rounded);
  }
};

// ---- planes that were rounded

constexpr std::int64_t kSquare = 16;
static_assert(kSquare <= 2 * kHalo);
// Departures from the best plane in steps of rounding: evenly spread over one step they have a deviation of 0.289.
constexpr double kRoundedDeviation = 0.33, kRoundedMost = 0.85;

// The step that all four corners are whole multiples of: 0.01 or 0.001 of the unit, else 0. Ground rounded to more lies
// in a plane wherever it is nearly level.
double rounding_of(const std::array<const float*, kSquare>& z, std::int64_t c) {
  for (const double step : {0.01, 0.001}) {
    bool whole = true;
    for (const float v : {z[0][c], z[3][c + 2], z[9][c + 12], z[15][c + 15]}) {
      const double steps = static_cast<double>(v) / step, tolerance = 1e-3 + std::abs(steps) * 1e-7;
      if (!(std::abs(steps - std::nearbyint(steps)) <= tolerance) || tolerance > 0.1) whole = false;
    }
    if (whole) return step;
  }
  return 0;
}

// Rounding makes second differences of a plane one step, either way, at most.
bool bends(float a, float b, float c, double step) {
  return !(std::abs(static_cast<double>(a) - 2 * static_cast<double>(b) + static_cast<double>(c)) <= 1.5 * step);
}

bool rounded_plane(const std::array<const float*, kSquare>& z, std::int64_t c) {
  constexpr double kMiddle = (kSquare - 1) / 2.0;
  const double step = rounding_of(z, c);
  if (step == 0) return false;
  for (const std::size_t k : {0, 5, 10, 15}) {
    const auto i = c + static_cast<std::int64_t>(k);
    if (bends(z[k][c], z[k][c + 7], z[k][c + 14], step) || bends(z[0][i], z[7][i], z[14][i], step)) return false;
  }
  // The best plane: rows and columns count from the middle, so its terms are independent.
  const double from = static_cast<double>(z[0][c]);
  double sum = 0, by_row = 0, by_col = 0, spread = 0;
  std::array<std::array<double, kSquare>, kSquare> d{};
  for (std::size_t r = 0; r < kSquare; ++r)
    for (std::size_t k = 0; k < kSquare; ++k) {
      d[r][k] = (static_cast<double>(z[r][c + static_cast<std::int64_t>(k)]) - from) / step;
      sum += d[r][k];
      by_row += d[r][k] * (static_cast<double>(r) - kMiddle);
      by_col += d[r][k] * (static_cast<double>(k) - kMiddle);
      spread += (static_cast<double>(k) - kMiddle) * (static_cast<double>(k) - kMiddle);
    }
  if (!(std::isfinite(sum)) || (by_row == 0 && by_col == 0)) return false;  // level
  double squares = 0, most = 0;
  for (std::size_t r = 0; r < kSquare; ++r)
    for (std::size_t k = 0; k < kSquare; ++k) {
      const double off = d[r][k] - sum / (kSquare * kSquare) - by_row / spread * (static_cast<double>(r) - kMiddle) -
                         by_col / spread * (static_cast<double>(k) - kMiddle);
      squares += off * off;
      most = std::max(most, std::abs(off));
    }
  return most <= kRoundedMost && squares <= kRoundedDeviation * kRoundedDeviation * kSquare * kSquare;
}

std::vector<Run> rounded_runs(const std::array<const float*, kSquare>& z, std::int64_t cols) {
  std::vector<Run> runs;
  for (std::int64_t s = 0; (s + 1) * kSquare <= cols; ++s) {
    if (!rounded_plane(z, s * kSquare)) continue;
    const auto at = static_cast<std::int32_t>(s);
    if (!runs.empty() && runs.back().last == at)
      ++runs.back().last;
    else
      runs.push_back({at, at + 1, 0});
  }
  return runs;
}

// ---- the detector

class PatchDetector final : public DetectorOf<Part> {
 public:
  explicit PatchDetector(Scene& scene)
      : DetectorOf(scene),
        flats_(scene.limits().flat_cells),
        planes_(scene.limits().planar_cells),
        rounded_(std::max(2.0, scene.limits().planar_cells / (kSquare * kSquare))) {}

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<Part>();
    for (std::int64_t r = 0; r < band.rows; ++r) {
      part->flats.push_back(flat_runs(b.row(r + kHalo), band.cols));
      part->planes.push_back(plane_runs(b.row(r + kHalo - 1), b.row(r + kHalo), b.row(r + kHalo + 1), band.cols));
      // A square belongs to the band that its middle is in, so that the halo holds the rest of it.
      constexpr std::int64_t kHalf = kSquare / 2;
      if ((band.row + r) % kSquare != kHalf || band.row + r + kHalf > scene_.frame().rows()) continue;
      std::array<const float*, kSquare> rows{};
      for (std::int64_t k = 0; k < kSquare; ++k) rows[static_cast<std::size_t>(k)] = b.row(r + kHalo - kHalf + k);
      part->rounded.push_back(rounded_runs(rows, band.cols));
    }
    return part;
  }

  void merge(void* p) override {
    const Part& part = *static_cast<const Part*>(p);
    for (std::size_t r = 0; r < part.flats.size(); ++r, ++row_) {
      flats_.add_row(part.flats[r], row_);
      planes_.add_row(part.planes[r], row_);
    }
    for (const auto& squares : part.rounded) rounded_.add_row(squares, squares_++);
  }

  void judge() override {
    const bool terraced = std::any_of(scene_.findings().begin(), scene_.findings().end(),
                                      [](const Finding& f) { return f.code == "terraces"; });
    const std::vector<Region> flats = flats_.finish();
    std::vector<Region> planes = planes_.finish();
    const std::int64_t count = planes_.count() + add_rounded(planes);
    if (!flats.empty() && !terraced) {
      const Region& r = flats[0];
      Finding& f =
          scene_.add("flat", Severity::Note,
                     fmt::format("{}, the largest with {} cells at height {:g} about {}: water, a filled void or "
                                 "clipped values",
                                 flats_.count() == 1 ? "a flat patch" : fmt::format("{} flat patches", flats_.count()),
                                 r.cells, static_cast<double>(r.value), scene_.at(r.box)),
                     "");
      place(f, flats);
    }
    if (!planes.empty()) {
      const Region& r = planes[0];
      const GroundSpacing s = ground_spacing(scene_.frame());
      const double length =
          std::hypot(static_cast<double>(r.box.cols) * s.x.metres(), static_cast<double>(r.box.rows) * s.y.metres());
      Finding& f = scene_.add(
          "plane", Severity::Warning,
          fmt::format("{} of even slope, the largest of {} cells, up to {:.0f} m across, about {}: drawn between far "
                      "points, nothing was measured inside",
                      counted(count, "plane"), r.cells, length, scene_.at(r.box)),
          "leave such edges void when gridding (grid --longest-edge), or join a second source");
      f.measure = length;
      f.unit = "m";
      place(f, planes);
    }
  }

 private:
  static std::vector<Run> flat_runs(const float* z, std::int64_t cols) {
    std::vector<Run> runs;
    // Cells that equal the one kRun - 1 further on are rare, except on flats.
    for (std::int64_t c = 0; c + kRun <= cols;) {
      if (z[c] != z[c + kRun - 1]) {
        ++c;
        continue;
      }
      std::int64_t end = c + 1;
      while (end < cols && z[end] == z[c]) ++end;
      if (end - c >= kRun) runs.push_back({static_cast<std::int32_t>(c), static_cast<std::int32_t>(end), z[c]});
      c = end;
    }
    return runs;
  }

  // A plane in floats: second differences no larger than rounding makes them.
  static bool plane_at(const float* up, const float* z, const float* down, std::int64_t c) {
    const float e = 4e-7f * std::abs(z[c]) + 1e-6f;
    return std::abs(z[c - 1] - 2 * z[c] + z[c + 1]) <= e && std::abs(up[c] - 2 * z[c] + down[c]) <= e &&
           std::abs(up[c - 1] - up[c + 1] - down[c - 1] + down[c + 1]) <= 2 * e &&
           !(z[c - 1] == z[c + 1] && up[c] == down[c]);
  }
  static std::vector<Run> plane_runs(const float* up, const float* z, const float* down, std::int64_t cols) {
    std::vector<Run> runs;
    for (std::int64_t c = 1; c + kRun < cols;) {
      // The last of the run first: when it is no plane, the whole run is skipped.
      const std::int64_t last = c + kRun - 1;
      if (!plane_at(up, z, down, last)) {
        c = last + 1;
        continue;
      }
      std::int64_t begin = last, end = last + 1;
      while (begin > c && plane_at(up, z, down, begin - 1)) --begin;
      while (end + 1 < cols && plane_at(up, z, down, end)) ++end;
      if (end - begin >= kRun) runs.push_back({static_cast<std::int32_t>(begin), static_cast<std::int32_t>(end), 0});
      c = end;
    }
    return runs;
  }

  // Rounded planes beside the exact ones, in cells; how many.
  std::int64_t add_rounded(std::vector<Region>& planes) {
    const std::vector<Region> exact = planes;
    std::int64_t known = 0;
    for (Region r : rounded_.finish()) {
      r.cells *= kSquare * kSquare;
      r.box = {r.box.col * kSquare, r.box.row * kSquare, r.box.cols * kSquare, r.box.rows * kSquare};
      // One of even steps is both.
      if (std::any_of(exact.begin(), exact.end(), [&](const Region& e) { return !e.box.intersected(r.box).empty(); }))
        ++known;
      else
        planes.push_back(r);
    }
    std::stable_sort(planes.begin(), planes.end(), [](const Region& a, const Region& b) { return a.cells > b.cells; });
    return rounded_.count() - known;
  }

  void place(Finding& f, const std::vector<Region>& regions) {
    for (std::size_t i = 0; i < std::min(regions.size(), kMostPlaces); ++i)
      f.place.push_back(scene_.place_of(regions[i].box));
  }

  Regions flats_, planes_, rounded_;
  std::int64_t row_ = 0, squares_ = 0;
};

}  // namespace

std::unique_ptr<Detector> make_patch_detector(Scene& scene) { return std::make_unique<PatchDetector>(scene); }

}  // namespace katoptra
