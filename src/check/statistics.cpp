#include "katoptra/check/statistics.hpp"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cmath>
#include <cstring>
#include <limits>

#include "base/clones.hpp"
#include "check/detectors/census.hpp"
#include "grid/shared_bands.hpp"
#include "moments.hpp"

namespace katoptra {
namespace {

// Floats in order as unsigned numbers.
std::uint32_t ordered(float v) {
  const auto bits = std::bit_cast<std::uint32_t>(v);
  return bits & 0x80000000u ? ~bits : bits | 0x80000000u;
}
double value_of(std::uint32_t order) {
  const double v = static_cast<double>(std::bit_cast<float>(order & 0x80000000u ? order & 0x7FFFFFFFu : ~order));
  return std::abs(v) < kSketchFloor ? 0 : v;
}

// The first cell of a row in order that has the extreme, and how many have it.
struct Extreme {
  float value;
  std::int64_t col = 0, row = 0, count = 0;

  void meet(const Extreme& o, bool lower) {
    if (o.count == 0) return;
    if (o.value == value)
      count += o.count;
    else if (lower ? o.value < value : o.value > value)
      *this = o;
  }
};

// Lowest and highest of what is known; infinities the wrong way round when nothing is.
KATOPTRA_CLONES std::pair<float, float> range_of(const float* z, std::int64_t n) {
  constexpr float kFar = std::numeric_limits<float>::infinity();
  Floats8 lows = Floats8{} + kFar, highs = Floats8{} - kFar;
  std::int64_t c = 0;
  for (; c + 8 <= n; c += 8) {
    Floats8 v;
    std::memcpy(&v, z + c, sizeof v);
    // A void compares as false either way.
    lows = v < lows ? v : lows;
    highs = v > highs ? v : highs;
  }
  float low = kFar, high = -kFar;
  const auto meet = [&](float a, float b) {
    low = a < low ? a : low;
    high = b > high ? b : high;
  };
  for (int k = 0; k < 8; ++k) meet(lows[k], highs[k]);
  for (; c < n; ++c) meet(z[c], z[c]);
  return {low, high};
}

// Sums about `origin` in eight lanes, of a number of cells that eight divides.
struct LaneSums {
  double sum[8] = {}, squares[8] = {};
  std::int64_t known[8] = {};
};
KATOPTRA_CLONES void add_lanes(const float* z, std::int64_t n, double origin, LaneSums& out) {
  Doubles4 sum[2] = {}, squares[2] = {};
  Integers4 known[2] = {};
  for (std::int64_t c = 0; c < n; c += 8)
    for (int half = 0; half < 2; ++half) {
      Floats4 four;
      std::memcpy(&four, z + c + 4 * half, sizeof four);
      const Doubles4 v = __builtin_convertvector(four, Doubles4);
      const Integers4 is = v == v;
      const auto d = reinterpret_cast<Doubles4>(reinterpret_cast<Integers4>(v - origin) & is);
      sum[half] += d;
      squares[half] += d * d;
      known[half] -= is;
    }
  std::memcpy(out.sum, sum, sizeof sum);
  std::memcpy(out.squares, squares, sizeof squares);
  std::memcpy(out.known, known, sizeof known);
}

// Of each value; `none` for voids.
KATOPTRA_CLONES void numbers_of_bins(const float* __restrict z, std::int32_t n, double origin, int dropped,
                                     std::uint32_t none, std::uint32_t* __restrict bins) {
  for (std::int32_t i = 0; i < n; ++i) {
    const float off = static_cast<float>(static_cast<double>(z[i]) - origin),
                v = std::abs(off) < static_cast<float>(kSketchFloor) ? 0.0f : off;
    const auto bits = std::bit_cast<std::uint32_t>(v);
    const std::uint32_t order = bits & 0x80000000u ? ~bits : bits | 0x80000000u;
    bins[i] = z[i] == z[i] ? order >> dropped : none;
  }
}

}  // namespace

struct StatisticsPart {
  explicit StatisticsPart(double origin = 0) : sketch(origin) {}
  ValueSketch sketch;
  std::vector<Moments> rows;
  Moments moments;
  std::int64_t voids = 0;
  Extreme low{std::numeric_limits<float>::infinity()}, high{-std::numeric_limits<float>::infinity()};

  template <class Fields>
  void fields(Fields& f) {
    f(sketch, rows, voids, low, high);
  }
};

// ---------------------------------------------------------------------------------------------------------- sketch

ValueSketch::ValueSketch(double origin, int bits)
    : pages_((std::size_t{1} << (9 + bits)) / kPageBins + 1), origin_(origin), dropped_(23 - bits) {}

ValueSketch::ValueSketch(const ValueSketch& other) : ValueSketch(other.origin_, 23 - other.dropped_) { add(other); }

ValueSketch& ValueSketch::operator=(const ValueSketch& other) {
  if (this != &other) *this = ValueSketch(other);
  return *this;
}

void ValueSketch::add_offset(float v) {
  // Next to the origin nobody tells bins apart.
  count_in(ordered(std::abs(v) < static_cast<float>(kSketchFloor) ? 0.0f : v) >> dropped_);
  ++count_;
}

void ValueSketch::add_page(std::unique_ptr<Page>& page) { page = std::make_unique<Page>(); }

void ValueSketch::bins_of(const float* z, std::int64_t n, std::uint32_t* bins) const {
  numbers_of_bins(z, static_cast<std::int32_t>(n), origin_, dropped_,
                  static_cast<std::uint32_t>(bin_pages() * kPageBins), bins);
}

void ValueSketch::add_bins(const std::uint32_t* bins, std::int64_t n, int shift) {
  // Voids are counted with all others, in the page behind theirs: cheaper than asking of each.
  const auto none = static_cast<std::uint32_t>(bin_pages() * kPageBins);
  const std::int64_t voids = counter(none);
  for (std::int64_t i = 0; i < n; ++i) ++counter(bins[i] >> shift);
  count_ += n - (counter(none) - voids);
}

void ValueSketch::add_row(const float* z, std::int64_t n) {
  constexpr std::int64_t kChunk = 512;
  std::array<std::uint32_t, kChunk> bins;
  for (std::int64_t first = 0; first < n; first += kChunk) {
    const std::int64_t m = std::min(kChunk, n - first);
    bins_of(z + first, m, bins.data());
    add_bins(bins.data(), m);
  }
}

void ValueSketch::add(const ValueSketch& other) {
  assert(origin_ == other.origin_ && dropped_ >= other.dropped_);
  const int shift = dropped_ - other.dropped_;
  for (std::uint32_t p = 0; p < other.bin_pages(); ++p) {
    if (!other.pages_[p]) continue;
    for (std::uint32_t i = 0; i < kPageBins; ++i)
      if (const std::int64_t n = (*other.pages_[p])[i]; n > 0) counter((p * kPageBins + i) >> shift) += n;
  }
  count_ += other.count_;
}

std::vector<std::int64_t> ValueSketch::packed() const {
  std::vector<std::int64_t> counts{count_};
  for (std::uint32_t p = 0; p < bin_pages(); ++p) {
    if (!pages_[p]) continue;
    for (std::uint32_t i = 0; i < kPageBins; ++i)
      if (const std::int64_t n = (*pages_[p])[i]; n > 0) {
        counts.push_back(p * kPageBins + i);
        counts.push_back(n);
      }
  }
  return counts;
}

void ValueSketch::add_packed(std::span<const std::int64_t> counts) {
  if (counts.empty()) return;
  count_ += counts[0];
  for (std::size_t i = 1; i + 1 < counts.size(); i += 2)
    if (const auto bin = static_cast<std::uint64_t>(counts[i]); bin < bin_pages() * kPageBins)
      counter(static_cast<std::uint32_t>(bin)) += counts[i + 1];
}

template <class Body>
void ValueSketch::each_bin(const Body& body) const {
  for (std::uint32_t p = 0; p < bin_pages(); ++p) {
    if (!pages_[p]) continue;
    for (std::uint32_t i = 0; i < kPageBins; ++i) {
      const std::int64_t n = (*pages_[p])[i];
      if (n == 0) continue;
      const std::uint32_t first = (p * kPageBins + i) << dropped_;
      if (!body(value_of(first), value_of(first | ((1u << dropped_) - 1)), static_cast<double>(n))) return;
    }
  }
}

double ValueSketch::quantile(double q) const {
  const double rank = q * static_cast<double>(count_ - 1);
  double before = 0, found = std::nan("");
  each_bin([&](double a, double b, double n) {
    if (rank >= before + n) {
      before += n;
      return true;
    }
    found = origin_ + (n == 1 ? (a + b) / 2 : a + (b - a) * (rank - before) / (n - 1));
    return false;
  });
  return found;
}

double ValueSketch::below(double v) const {
  const double at = v - origin_;
  double before = 0;
  each_bin([&](double a, double b, double n) {
    if (at <= a) return false;
    before += at >= b ? n : n * (at - a) / (b - a);
    return at > b;
  });
  return before;
}

double ValueSketch::radius(double centre, double q) const {
  if (count_ == 0) return std::nan("");
  // Bins in rising order with what lies before each, so that ranks are found by halves.
  struct Bin {
    double from, to, before, n;
  };
  std::vector<Bin> bins;
  double all = 0;
  each_bin([&](double a, double b, double n) {
    bins.push_back({a, b, all, n});
    all += n;
    return true;
  });
  const auto rank = [&](double v) {
    const double at = v - origin_;
    const auto next = std::upper_bound(bins.begin(), bins.end(), at, [](double x, const Bin& k) { return x < k.from; });
    if (next == bins.begin()) return 0.0;
    const Bin& k = *std::prev(next);
    return k.before + (at >= k.to ? k.n : k.n * (at - k.from) / (k.to - k.from));
  };
  const double wanted = q * all, lowest = bins.front().from + origin_, highest = bins.back().to + origin_;
  double low = 0, high = std::max(std::abs(lowest - centre), std::abs(highest - centre)) * (1 + error());
  for (int i = 0; i < 60 && high - low > 1e-12 * high; ++i) {
    const double r = (low + high) / 2;
    (rank(centre + r) - rank(centre - r) < wanted ? low : high) = r;
  }
  return (low + high) / 2;
}

std::vector<double> ValueSketch::histogram(int bins, std::pair<double, double> range) const {
  std::vector<double> counts;
  // What equals either end is inside.
  const auto room = [&](double edge) { return std::max(kSketchFloor, 2 * error() * std::abs(edge - origin_)); };
  double before = below(range.first - room(range.first));
  for (int i = 0; i < bins; ++i) {
    const double edge = range.first + (range.second - range.first) * (i + 1) / bins,
                 up_to = below(i + 1 == bins ? edge + room(edge) : edge);
    counts.push_back(up_to - before);
    before = up_to;
  }
  return counts;
}

// --------------------------------------------------------------------------------------------------------- moments

Moments moments_of(const float* row, std::int64_t cols) {
  // Sums about the first value, in eight lanes that are joined in order.
  constexpr std::int64_t kSums = 8;
  std::int64_t first = 0;
  while (first < cols && std::isnan(row[first])) ++first;
  if (first == cols) return {};
  const auto origin = static_cast<double>(row[first]);
  LaneSums lanes;
  const std::int64_t whole = (cols - first) / kSums * kSums;
  add_lanes(row + first, whole, origin, lanes);
  double s = 0, q = 0, n = 0;
  for (std::int64_t k = 0; k < kSums; ++k) {
    s += lanes.sum[k];
    q += lanes.squares[k];
    n += static_cast<double>(lanes.known[k]);
  }
  for (std::int64_t c = first + whole; c < cols; ++c) {
    if (std::isnan(row[c])) continue;
    const double d = static_cast<double>(row[c]) - origin;
    s += d;
    q += d * d;
    n += 1;
  }
  return {static_cast<std::int64_t>(n), origin + s / n, std::max(0.0, q - s * s / n)};
}

void ErrorGathering::add(const ErrorGathering& o) {
  moments.add(o.moments);
  sketch.add(o.sketch);
  lowest = std::min(lowest, o.lowest);
  highest = std::max(highest, o.highest);
}

ErrorStatistics ErrorGathering::result() const {
  const double none = std::nan("");
  if (moments.n == 0) return {0, none, none, none, none, none, none, none, none, none};
  const double median = sketch.quantile(0.5);
  return {.count = moments.n,
          .mean = moments.mean,
          .deviation = moments.sample_deviation(),
          .rmse = moments.rmse(),
          .median = median,
          .nmad = kNmadFactor * sketch.radius(median, 0.5),
          .q683 = sketch.radius(0, 0.683),
          .q95 = sketch.radius(0, 0.95),
          .lowest = lowest,
          .highest = highest};
}

ErrorStatistics error_statistics(std::vector<double> v) {
  std::erase_if(v, [](double x) { return std::isnan(x); });
  if (v.empty()) return ErrorGathering().result();
  std::sort(v.begin(), v.end());
  Moments m;
  for (double x : v) m.add(x);
  std::vector<double> absolute;
  for (double x : v) absolute.push_back(std::abs(x));
  std::sort(absolute.begin(), absolute.end());
  const double median = quantile_of(v, 0.5);
  return {.count = m.n,
          .mean = m.mean,
          .deviation = m.sample_deviation(),
          .rmse = m.rmse(),
          .median = median,
          .nmad = robust_deviation(v, median),
          .q683 = quantile_of(absolute, 0.683),
          .q95 = quantile_of(absolute, 0.95),
          .lowest = v.front(),
          .highest = v.back()};
}

// ------------------------------------------------------------------------------------------------------ whole grids

std::pair<double, double> Statistics::robust() const {
  const double p1 = percentiles[0], p99 = percentiles[6], room = (p99 - p1) / 10;
  return {std::max(lowest, p1 - room), std::min(highest, p99 + room)};
}

namespace {

// A height in the middle of the grid, or wherever it first has one on a coarse lattice.
double middle_height(const Grid& grid) {
  const Frame& f = grid.frame();
  for (const auto& [x, y] :
       {std::pair{4, 4}, {2, 2}, {6, 6}, {2, 6}, {6, 2}, {4, 2}, {4, 6}, {2, 4}, {6, 4}, {1, 1}, {7, 7}}) {
    const Block b = grid.read(Window{f.cols() * x / 8, f.rows() * y / 8, 32, 32}.intersected(f.window()));
    std::vector<double> known;
    for (std::int64_t i = 0; i < b.window().cells(); ++i)
      if (!std::isnan(b.row(0)[i])) known.push_back(static_cast<double>(b.row(0)[i]));
    if (!known.empty()) return static_cast<double>(static_cast<float>(median_of(std::move(known))));
  }
  return 0;
}

}  // namespace

StatisticsGathering::StatisticsGathering(const Grid& grid)
    : frame_(grid.frame()), all_(new StatisticsPart(middle_height(grid))) {}
StatisticsGathering::~StatisticsGathering() = default;

std::shared_ptr<StatisticsPart> StatisticsGathering::part() const {
  return std::make_shared<StatisticsPart>(all_->sketch.origin());
}

std::int64_t StatisticsGathering::add_row(StatisticsPart& p, const float* row, std::int64_t cols, std::int64_t r) {
  p.sketch.add_row(row, cols);
  const auto [low, high] = range_of(row, cols);
  const Moments m = moments_of(row, cols);
  p.rows.push_back(m);
  p.voids += cols - m.n;
  if (m.n == 0) return 0;
  auto meet = [&](Extreme& e, float v, bool lower) {
    if (lower ? v <= e.value : v >= e.value)
      e.meet({v, std::find(row, row + cols, v) - row, r, std::count(row, row + cols, v)}, lower);
  };
  meet(p.low, low, true);
  meet(p.high, high, false);
  return m.n;
}

void StatisticsGathering::merge(const StatisticsPart& p) {
  for (const Moments& m : p.rows) all_->moments.add(m);
  all_->sketch.add(p.sketch);
  all_->voids += p.voids;
  all_->low.meet(p.low, true);
  all_->high.meet(p.high, false);
}

void StatisticsGathering::pack(StatisticsPart& part, Packer& to) { FieldPacker{to}(part); }

std::shared_ptr<StatisticsPart> StatisticsGathering::unpack(Unpacker& from) const {
  auto p = part();
  FieldUnpacker{from}(*p);
  return p;
}

std::int64_t StatisticsGathering::at_lowest() const { return all_->low.count; }
std::int64_t StatisticsGathering::at_highest() const { return all_->high.count; }

Statistics StatisticsGathering::result() {
  Statistics s;
  s.cells = frame_.cols() * frame_.rows();
  s.voids = all_->voids;
  const bool any = all_->moments.n > 0;
  const double none = std::nan("");
  s.lowest = any ? static_cast<double>(all_->low.value) : none;
  s.highest = any ? static_cast<double>(all_->high.value) : none;
  s.mean = any ? all_->moments.mean : none;
  s.deviation = all_->moments.population_deviation();
  s.lowest_at = frame_.centre(static_cast<double>(all_->low.col), static_cast<double>(all_->low.row));
  s.highest_at = frame_.centre(static_cast<double>(all_->high.col), static_cast<double>(all_->high.row));
  for (int i = 0; i < 7; ++i) s.percentiles[i] = all_->sketch.quantile(kPercents[i] / 100);
  s.sketch = std::move(all_->sketch);
  return s;
}

Statistics statistics(const Grid& grid, const RunOptions& options) {
  StatisticsGathering all(grid);
  share_bands(grid, Planes::Values, 0, options,
              {.map = [&](const Block& block, const Window& band) -> std::shared_ptr<void> {
                 auto p = all.part();
                 for (std::int64_t r = 0; r < band.rows; ++r)
                   StatisticsGathering::add_row(*p, block.row(r), band.cols, band.row + r);
                 return p;
               },
               .reduce = [&](const std::shared_ptr<void>& p) { all.merge(*static_cast<StatisticsPart*>(p.get())); },
               .pack = [](const std::shared_ptr<void>& p,
                          Packer& to) { StatisticsGathering::pack(*static_cast<StatisticsPart*>(p.get()), to); },
               .unpack = [&](Unpacker& from) -> std::shared_ptr<void> { return all.unpack(from); }});
  return all.result();
}

}  // namespace katoptra
