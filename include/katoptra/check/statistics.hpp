// Whole-grid statistics in one streaming pass, and the measures that accuracy is told by.
//
//   Statistics s = statistics(dem);                       // range with place, mean, deviation, percentiles
//   std::vector<double> h = s.sketch.histogram(40, s.robust());     // without reading the grid again
//   ErrorStatistics e = error_statistics(residuals);      // median, NMAD, 68.3 and 95 % quantiles, exact
//
// Sums are kept row by row about each row's own mean and joined in order (Chan, Golub & LeVeque 1979): the same bits
// for every block size and thread count, and a high plateau loses no digits. Memory: a sketch of at most 16 MiB,
// usually below 1 MiB, beside the blocks under way.
#pragma once
#include <array>
#include <cstdint>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

// Counts of values in bins that grow with the distance from `origin`, so that any range fits: a value read from it is
// off by at most error() times its distance from the origin, or kSketchFloor.
class ValueSketch {
 public:
  // `bits`: 1 to 13; each doubles what the sketch tells apart and the memory it takes.
  explicit ValueSketch(double origin = 0, int bits = 11);
  ValueSketch(const ValueSketch& other);
  ValueSketch(ValueSketch&&) noexcept = default;
  ValueSketch& operator=(const ValueSketch& other);
  ValueSketch& operator=(ValueSketch&&) noexcept = default;
  ~ValueSketch() = default;
  double origin() const { return origin_; }
  double error() const { return 1.0 / static_cast<double>(1u << (23 - dropped_)); }
  void add(float v) { add_offset(static_cast<float>(static_cast<double>(v) - origin_)); }
  // A value already less the origin, without a look whether it is a number.
  void add_offset(float v);
  // The same in two steps, for several sketches of one origin: a bin of a sketch is that of one with `k` fewer bits
  // shifted by k, and voids have one that is not counted. `count_in` takes a single bin, never that of voids, and
  // leaves it to `counted` to say afterwards how many values there were.
  void bins_of(const float* values, std::int64_t n, std::uint32_t* bins) const;
  void add_bins(const std::uint32_t* bins, std::int64_t n, int shift = 0);
  void count_in(std::uint32_t bin) { ++counter(bin); }
  void counted(std::int64_t values) { count_ += values; }
  // All that are no voids.
  void add_row(const float* values, std::int64_t n);
  // Both must have the same origin, and the other as many bits or more.
  void add(const ValueSketch& other);
  std::int64_t count() const { return count_; }
  // Its counts as numbers that can be sent, and added to another of the same origin and as many bits.
  std::vector<std::int64_t> packed() const;
  void add_packed(std::span<const std::int64_t> counts);
  // q in 0..1; NaN when empty.
  double quantile(double q) const;
  // How many values lie below `v`, interpolated within its bin.
  double below(double v) const;
  // The radius about `centre` that holds the share q of all values; with the median and q = 0.5 it is the median
  // absolute deviation.
  double radius(double centre, double q) const;
  // Counts in `bins` equal bins over [range.first, range.second]; what lies beyond is left out.
  std::vector<double> histogram(int bins, std::pair<double, double> range) const;

 private:
  using Page = std::array<std::int64_t, 256>;
  static constexpr std::uint32_t kPageBins = 256;
  std::int64_t& counter(std::uint32_t bin) {
    std::unique_ptr<Page>& page = pages_[bin / kPageBins];
    if (!page) [[unlikely]]
      add_page(page);
    return (*page)[bin % kPageBins];
  }
  static void add_page(std::unique_ptr<Page>& page);
  template <class Body>
  void each_bin(const Body& body) const;  // body(from, to, count) in rising order, until it returns false
  std::size_t bin_pages() const { return pages_.size() - 1; }
  std::vector<std::unique_ptr<Page>> pages_;  // the last counts voids in passing
  double origin_ = 0;
  int dropped_ = 12;  // bits of a float
  std::int64_t count_ = 0;
};
// Of percentiles: 1/2048 of the distance from a height in the middle of the grid.
inline constexpr double kQuantileError = 1.0 / 2048, kSketchFloor = 1.0 / 4096;

struct Statistics {
  std::int64_t cells = 0, voids = 0;
  double lowest = 0, highest = 0, mean = 0, deviation = 0;  // NaN when all cells are void
  Point lowest_at, highest_at;                              // first cell centre in row order that has it
  // 1, 5, 25, 50, 75, 95, 99 percent
  double percentiles[7] = {};
  ValueSketch sketch;
  // A range that a few outliers do not stretch: from 1 to 99 %, widened by a tenth, no further than the full range.
  std::pair<double, double> robust() const;
};
inline constexpr double kPercents[7] = {1, 5, 25, 50, 75, 95, 99};

Statistics statistics(const Grid& grid, const RunOptions& options = {});

// What is told of differences. NMAD is 1.4826 times the median absolute deviation from the median: the standard
// deviation that blunders do not move (Höhle & Höhle 2009). All NaN without values.
struct ErrorStatistics {
  std::int64_t count = 0;
  double mean = 0, deviation = 0;  // sample standard deviation (n - 1)
  double rmse = 0, median = 0, nmad = 0;
  double q683 = 0, q95 = 0;  // of the absolute values
  double lowest = 0, highest = 0;
};
inline constexpr double kNmadFactor = 1.4826;
// Exact, from all values (NaN left out). Quantiles are interpolated between neighbours in order.
ErrorStatistics error_statistics(std::vector<double> values);

}  // namespace katoptra
