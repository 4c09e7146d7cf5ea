// A disc is a run of cells in each of its rows, and the sum over a run is the difference of two running sums along the
// row. Rows are taken one by one, each into the sums of all cells whose discs reach it, so that no more than one row's
// running sums are held. Sums are of whole numbers (fixed steps of height), so it does not matter where they began or
// in which order they are added. The shape of the disc in cells depends on the ground distances at a cell
// (stretches.hpp).
#include "katoptra/terrain/position.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <optional>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"
#include "fixed_heights.hpp"
#include "product_info.hpp"
#include "stretches.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

// The cells of a disc: of the row `dy` from the middle those up to half_widths[|dy|] away; none beyond.
struct Disc {
  std::vector<std::int64_t> half_widths;
  std::int64_t down() const { return std::ssize(half_widths) - 1; }
  std::int64_t cells() const {
    std::int64_t n = 0;
    for (std::size_t y = 0; y < half_widths.size(); ++y) n += (2 * half_widths[y] + 1) * (y == 0 ? 1 : 2);
    return n;
  }
};

// `across`, `down`: the radius in cells. `open`: without the rim itself, for what is left out.
Disc disc_of(double across, double down, bool open) {
  Disc d;
  constexpr double kRim = 1e-9;  // of the radius: the rim is in, whatever roundings say
  for (std::int64_t y = 0; static_cast<double>(y) <= down * (1 + (open ? -kRim : kRim)); ++y) {
    const double v = static_cast<double>(y) / down, left = 1 - v * v + (open ? -kRim : kRim);
    if (left < 0) break;
    d.half_widths.push_back(static_cast<std::int64_t>(across * std::sqrt(left)));
  }
  return d;
}

template <class T>
void add_runs_plain(const T* first, const T* end, std::int64_t n, T sign, T* sums) {
  for (std::int64_t c = 0; c < n; ++c) sums[c] += sign * (end[c] - first[c]);
}
KATOPTRA_CLONES void add_runs(const std::int64_t* __restrict first, const std::int64_t* __restrict end, std::int64_t n,
                              std::int64_t sign, std::int64_t* __restrict sums) {
  add_runs_plain(first, end, n, sign, sums);
}
KATOPTRA_CLONES void add_runs(const std::int32_t* __restrict first, const std::int32_t* __restrict end, std::int64_t n,
                              std::int32_t sign, std::int32_t* __restrict sums) {
  add_runs_plain(first, end, n, sign, sums);
}
void add_runs(const Int128* first, const Int128* end, std::int64_t n, Int128 sign, Int128* sums) {
  add_runs_plain(first, end, n, sign, sums);
}

// Running sums along a row: entry c is of the cells before c.
struct RunningSums {
  std::vector<std::int64_t> heights;
  std::vector<std::int32_t> there;
  std::vector<Int128> squares;  // where deviations are wanted

  RunningSums(std::int64_t cols, bool with_squares)
      : heights(static_cast<std::size_t>(cols) + 1),
        there(heights.size()),
        squares(with_squares ? heights.size() : 0) {}
  void take(const float* z, std::int64_t cols, const GridInfo& info) {
    for (std::size_t c = 0; c < static_cast<std::size_t>(cols); ++c) {
      const bool is_there = !std::isnan(z[c]);
      const std::int64_t v = is_there ? steps_of(z[c], info) : 0;
      heights[c + 1] = heights[c] + v;
      there[c + 1] = there[c] + (is_there ? 1 : 0);
      if (!squares.empty()) squares[c + 1] = squares[c] + static_cast<Int128>(v) * v;
    }
  }
};

// What the discs around the cells of a block hold.
struct DiscSums {
  std::vector<std::int64_t> heights;
  std::vector<std::int32_t> there;
  std::vector<Int128> squares;
  bool counts = true;  // whether cells have to be counted one by one

  DiscSums(std::int64_t cells, bool with_squares)
      : heights(static_cast<std::size_t>(cells)), there(heights.size()), squares(with_squares ? heights.size() : 0) {}
  void clear() {
    std::fill(heights.begin(), heights.end(), 0);
    std::fill(there.begin(), there.end(), 0);
    std::fill(squares.begin(), squares.end(), 0);
  }
  // The runs of `half` cells to both sides of `n` cells, the first of which stands at `col` of the row.
  void add(const RunningSums& row, std::int64_t col, std::int64_t half, std::int64_t n, int sign, std::int64_t at) {
    const auto first = static_cast<std::ptrdiff_t>(col - half), end = static_cast<std::ptrdiff_t>(col + half + 1);
    add_runs(row.heights.data() + first, row.heights.data() + end, n, sign, heights.data() + at);
    if (counts) add_runs(row.there.data() + first, row.there.data() + end, n, sign, there.data() + at);
    if (!squares.empty()) add_runs(row.squares.data() + first, row.squares.data() + end, n, sign, squares.data() + at);
  }
};

class PositionSource final : public GridSource {
 public:
  PositionSource(Grid input, GridInfo info, PositionOptions options)
      : input_(std::move(input)), info_(std::move(info)), ruler_(info_.frame.crs()), options_(std::move(options)) {
    std::sort(options_.radii.begin(), options_.radii.end());
  }
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Stretches stretches(info_.frame, ruler_, w);
    const CellsPerMetre most = stretches.most();
    const double longest = options_.radii.back().metres();
    const auto right = static_cast<std::int64_t>(longest * most.across) + 1,
               down = static_cast<std::int64_t>(longest * most.down) + 1;
    const Window wide{w.col - right, w.row - down, w.cols + 2 * right, w.rows + 2 * down};
    const Block in = input_.read(wide, out.planes());
    const bool squares = options_.as == PositionAs::Deviations || options_.radii.size() > 1;
    RunningSums row(wide.cols, squares);
    DiscSums sums(std::min(w.rows, kRowsAtOnce) * w.cols, squares);
    sums.counts = has_voids(in);
    std::vector<double> best(static_cast<std::size_t>(w.cells()), -1);
    for (const Length radius : options_.radii) {
      const Discs outer(stretches, w.rows, radius, false);
      std::optional<Discs> inner;
      if (options_.inner.metres() > 0) inner.emplace(stretches, w.rows, options_.inner, true);
      for (std::int64_t first = 0; first < w.rows; first += kRowsAtOnce) {
        const Rows rows{first, std::min(w.rows, first + kRowsAtOnce)};
        sums.clear();
        for (std::int64_t y = rows.first - outer.down(); y < rows.end + outer.down(); ++y) {
          row.take(in.row(y + down), wide.cols, info_);
          add(row, outer, stretches, right, y, rows, w, 1, sums);
          if (inner) add(row, *inner, stretches, right, y, rows, w, -1, sums);
        }
        if (!sums.counts) set_counts(outer, inner ? &*inner : nullptr, stretches, rows, w, sums);
        for (std::int64_t r = rows.first; r < rows.end; ++r)
          choose(in.row(r + down) + right, w.cols, sums, (r - rows.first) * w.cols, radius, best.data() + r * w.cols,
                 out.row(r));
      }
    }
    if (out.origin)
      for (std::int64_t r = 0; r < w.rows; ++r) std::copy_n(in.origin_row(r + down) + right, w.cols, out.origin_row(r));
  }

 private:
  // Rows whose sums are found together: few enough to stay near the processor.
  static constexpr std::int64_t kRowsAtOnce = 32;
  struct Rows {
    std::int64_t first, end;
  };

  // The discs of a radius around the cells of each stretch of each row.
  class Discs {
   public:
    Discs(const Stretches& stretches, std::int64_t rows, Length radius, bool open) : across_(stretches.count()) {
      for (std::int64_t r = 0; r < rows; ++r)
        for (std::int64_t s = 0; s < across_; ++s) {
          const CellsPerMetre reach = stretches.at(r, s);
          list_.push_back(disc_of(radius.metres() * reach.across, radius.metres() * reach.down, open));
          down_ = std::max(down_, list_.back().down());
        }
    }
    const Disc& at(std::int64_t row, std::int64_t stretch) const {
      return list_[static_cast<std::size_t>(row * across_ + stretch)];
    }
    std::int64_t down() const { return down_; }

   private:
    std::int64_t across_, down_ = 0;
    std::vector<Disc> list_;
  };

  // The row `y` (from the first of the block) into the sums of all cells whose discs reach it.
  static void add(const RunningSums& row, const Discs& discs, const Stretches& stretches, std::int64_t right,
                  std::int64_t y, const Rows& rows, const Window& w, int sign, DiscSums& sums) {
    for (std::int64_t r = std::max(rows.first, y - discs.down()); r < std::min(rows.end, y + discs.down() + 1); ++r)
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const Disc& d = discs.at(r, s);
        if (std::abs(y - r) > d.down()) continue;
        const std::int64_t from = stretches.from(s);
        sums.add(row, from + right, d.half_widths[static_cast<std::size_t>(std::abs(y - r))], stretches.end(s) - from,
                 sign, (r - rows.first) * w.cols + from);
      }
  }

  static bool has_voids(const Block& in) {
    const float* z = in.row(0);
    return std::any_of(z, z + in.window().cells(), [](float v) { return std::isnan(v); });
  }
  // Without voids every disc has all of its cells.
  static void set_counts(const Discs& outer, const Discs* inner, const Stretches& stretches, const Rows& rows,
                         const Window& w, DiscSums& sums) {
    for (std::int64_t r = rows.first; r < rows.end; ++r)
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const std::int64_t n = outer.at(r, s).cells() - (inner ? inner->at(r, s).cells() : 0);
        const auto from = sums.there.begin() + static_cast<std::ptrdiff_t>((r - rows.first) * w.cols);
        std::fill(from + stretches.from(s), from + stretches.end(s), static_cast<std::int32_t>(n));
      }
  }

  // Of a row of `n` cells: where this radius says more than those before it, what it says.
  void choose(const float* z, std::int64_t n, const DiscSums& sums, std::int64_t at, Length radius, double* best,
              float* out) const {
    for (std::int64_t c = 0; c < n; ++c) {
      const auto i = static_cast<std::size_t>(at + c);
      if (std::isnan(z[c])) {
        out[c] = kVoid;
        continue;
      }
      if (sums.there[i] == 0) {  // a ring with nothing in it says nothing
        if (best[c] < 0) out[c] = kVoid;
        continue;
      }
      const std::int64_t own = steps_of(z[c], info_), count = sums.there[i];
      const double rise = static_cast<double>(count * own - sums.heights[i]);
      double deviations = 0;
      if (!sums.squares.empty()) {
        const Int128 spread = count * sums.squares[i] - static_cast<Int128>(sums.heights[i]) * sums.heights[i];
        deviations = spread > 0 ? rise / std::sqrt(static_cast<double>(spread)) : 0;
      }
      if (std::abs(deviations) <= best[c]) continue;
      best[c] = std::abs(deviations);
      out[c] = static_cast<float>(options_.as == PositionAs::Height ? rise / (kHeightSteps * static_cast<double>(count))
                                  : options_.as == PositionAs::Deviations ? deviations
                                                                          : radius.metres());
    }
  }

  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  PositionOptions options_;
};

constexpr const char* kWays[] = {"height", "deviations", "radius"};

void require_radii(const Grid& surface, const PositionOptions& o) {
  if (o.radii.empty())
    throw Error(ErrorCode::BadArgument, "a position needs a radius", "position", "give for instance 100m");
  for (const Length r : o.radii) {
    require_radius(surface, r);
    if (o.inner.metres() < 0 || o.inner >= r)
      throw Error(
          ErrorCode::BadArgument,
          fmt::format("an inner radius of {:g} m leaves nothing of a disc of {:g} m", o.inner.metres(), r.metres()),
          surface.info().name, "take an inner radius that is shorter than all others");
  }
}

}  // namespace

PositionAs parse_position_as(std::string_view text) {
  return value_of<PositionAs>(kWays, text, "is no way to give a position");
}

Grid position(const Grid& surface, const PositionOptions& options) {
  const char* unit = options.as == PositionAs::Height   ? symbol(surface.quantity().unit)
                     : options.as == PositionAs::Radius ? "m"
                                                        : "";
  GridInfo info =
      product_info(surface, options.as == PositionAs::Radius ? QuantityKind::Unknown : QuantityKind::Position, unit,
                   SampleType::Float32);
  require_radii(surface, options);
  return Grid(std::make_shared<PositionSource>(surface, std::move(info), options));
}

}  // namespace katoptra
