// What a surface states of itself, judged: cells that say nothing, values that cannot be, and cells that scatter from
// one to the next by more than they allow.
#include "check/detectors/sureness.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/check/statistics.hpp"

#include "grid/shared_bands.hpp"

namespace katoptra {
namespace {

// The one operator of 3 x 3 cells that no quadric moves (Immerkaer 1996); of independent errors it makes one six times
// as large.
constexpr int kWeights[3][3] = {{1, -2, 1}, {-2, 4, -2}, {1, -2, 1}};
constexpr double kCalm = 0.25;               // of the cells
constexpr double kNormalQuarter = 0.3186;    // a quarter of normal errors is smaller than so many standard ones
constexpr std::int64_t kFewestCells = 2000;  // cells that say how much they scatter

struct Row {
  std::int64_t values = 0, known = 0, zeros = 0;
  float largest = 0;
  std::int64_t col = -1;  // of the largest
  std::vector<float> ratios;

  template <class Fields>
  void fields(Fields& f) {
    f(values, known, zeros, largest, col, ratios);
  }
};

// How far the middle of nine cells scatters, in what their uncertainties allow; NaN where one says nothing.
float scatter(const Block& b, std::int64_t c, std::int64_t r) {
  double off = 0, variance = 0;
  for (std::int64_t j = 0; j < 3; ++j)
    for (std::int64_t i = 0; i < 3; ++i) {
      const double w = kWeights[j][i], u = static_cast<double>(b.uncertainty_row(r + j - 1)[c + i - 1]);
      off += w * static_cast<double>(b.at(c + i - 1, r + j - 1));
      variance += w * w * u * u;
    }
  return static_cast<float>(std::abs(off) / std::sqrt(variance));
}

Row row_of(const Block& b, std::int64_t r, std::int64_t cols) {
  Row row;
  for (std::int64_t c = 1; c <= cols; ++c) {
    if (std::isnan(b.at(c, r))) continue;
    ++row.values;
    const float u = b.uncertainty_row(r)[c];
    if (std::isnan(u)) continue;
    ++row.known;
    row.zeros += u == 0;
    if (u > row.largest) {
      row.largest = u;
      row.col = c - 1;
    }
    if (const float s = scatter(b, c, r); std::isfinite(s)) row.ratios.push_back(s);
  }
  return row;
}

}  // namespace

void judge_sureness(Scene& scene, double height_range, double too_sure, const RunOptions& run) {
  const Grid& g = scene.grid();
  const std::int64_t cols = g.frame().cols();
  Row all;
  std::int64_t largest_row = 0, row = 0;
  ValueSketch scatters(0, 9);
  share_bands<std::vector<Row>>(
      g, Planes::ValuesAndUncertainty, 1, run,
      [&](const Block& block, const Window& band) {
        // Of one column more on either side, which the band does not have.
        auto rows = std::make_shared<std::vector<Row>>();
        Block wide({-1, band.row - 1, cols + 2, band.rows + 2}, Planes::ValuesAndUncertainty);
        for (std::int64_t r = 0; r < band.rows + 2; ++r) {
          std::fill_n(wide.row(r), cols + 2, kVoid);
          std::fill_n(wide.uncertainty_row(r), cols + 2, kVoid);
          const std::int64_t skip = band.col - block.window().col;
          std::copy_n(block.row(r) + skip, cols, wide.row(r) + 1);
          std::copy_n(block.uncertainty_row(r) + skip, cols, wide.uncertainty_row(r) + 1);
        }
        for (std::int64_t r = 1; r <= band.rows; ++r) rows->push_back(row_of(wide, r, cols));
        return rows;
      },
      [&](const std::vector<Row>& rows) {
        for (const Row& r : rows) {
          all.values += r.values;
          all.known += r.known;
          all.zeros += r.zeros;
          if (r.largest > all.largest) {
            all.largest = r.largest;
            all.col = r.col;
            largest_row = row;
          }
          for (const float s : r.ratios) scatters.add(s);
          ++row;
        }
      });
  if (all.values == 0) return;
  const std::string unit = unit_name(g.quantity());
  if (const std::int64_t missing = all.values - all.known; missing > 0)
    scene.add("unsure", Severity::Note,
              fmt::format("{} of {} cells ({:.2f} %) do not say how sure they are", missing, all.values,
                          100 * static_cast<double>(missing) / static_cast<double>(all.values)),
              "what is made of them will not be known either; look which survey states nothing",
              static_cast<double>(missing));
  if (all.zeros > 0)
    scene.add("uncertainty", Severity::Warning,
              fmt::format("{} cell{} an uncertainty of zero, which no survey has", all.zeros,
                          all.zeros == 1 ? " states" : "s state"),
              "it stands for nothing, most likely: state another", static_cast<double>(all.zeros));
  if (height_range > 0 && static_cast<double>(all.largest) > height_range)
    scene.add("uncertainty", Severity::Warning,
              fmt::format("states an uncertainty of {:g} {} at {}, and all heights lie within {:g}", all.largest, unit,
                          scene.at(g.frame().centre(static_cast<double>(all.col), static_cast<double>(largest_row))),
                          height_range),
              "it is in another unit, or a value for voids that is not declared", static_cast<double>(all.largest));
  if (scatters.count() < kFewestCells) return;
  if (const double times = scatters.quantile(kCalm) / kNormalQuarter; times > too_sure)
    scene.add(
        "too-sure", Severity::Warning,
        fmt::format("in the calmest quarter of it cells scatter {:.1f} times as much from one to the next as their "
                    "uncertainties allow",
                    times),
        "they are too small, or the ground is that rough from cell to cell", times);
}

}  // namespace katoptra
