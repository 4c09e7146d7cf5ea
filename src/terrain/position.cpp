// A disc is a run of cells in each of its rows, and the sum over a run is the difference of two running sums along the
// row. Running sums are of whole numbers (fixed steps of height), so it does not matter where they began. The shape of
// the disc in cells depends on the ground distances at a cell (stretches.hpp).
#include "katoptra/terrain/position.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

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

// Running sums along the rows of a block: entry c is of the cells before c.
template <class T>
class RunningSums {
 public:
  RunningSums() = default;
  RunningSums(std::int64_t rows, std::int64_t cols)
      : stride_(cols + 1), sums_(static_cast<std::size_t>(rows * (cols + 1))) {}
  bool empty() const { return sums_.empty(); }
  T* row(std::int64_t r) { return sums_.data() + r * stride_; }
  const T* row(std::int64_t r) const { return sums_.data() + r * stride_; }

 private:
  std::int64_t stride_ = 0;
  std::vector<T> sums_;
};

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

// Sums over the disc around each of `n` cells, the first of which is at (col, row) of the block.
template <class T>
void add_disc(const RunningSums<T>& running, const Disc& d, std::int64_t col, std::int64_t row, std::int64_t n, T sign,
              std::vector<T>& sums) {
  for (std::int64_t y = -d.down(); y <= d.down(); ++y) {
    const std::int64_t half = d.half_widths[static_cast<std::size_t>(std::abs(y))];
    const T* r = running.row(row + y) + col;
    add_runs(r - half, r + half + 1, n, sign, sums.data());
  }
}

// The running sums of a block of heights.
struct Field {
  RunningSums<std::int64_t> heights;
  RunningSums<Int128> squares;
  RunningSums<std::int32_t> there;
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
    const Block in = input_.read(wide, out.origin ? Planes::ValuesAndOrigin : Planes::Values);
    const Field field = summed(in);
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (std::int64_t s = 0; s < stretches.count(); ++s) {
        const std::int64_t from = stretches.from(s);
        const Place place{from + right, r + down, stretches.end(s) - from};
        fill(in, field, stretches.at(r, s), place, out.row(r) + from);
      }
      if (out.origin) std::copy_n(in.origin_row(r + down) + right, w.cols, out.origin_row(r));
    }
  }

 private:
  struct Place {
    std::int64_t col, row, n;  // in the block
  };

  Field summed(const Block& in) const {
    const std::int64_t rows = in.window().rows, cols = in.window().cols;
    const bool squares = options_.as == PositionAs::Deviations || options_.radii.size() > 1;
    Field f{.heights = {rows, cols}, .squares = {}, .there = {rows, cols}};
    if (squares) f.squares = {rows, cols};
    for (std::int64_t r = 0; r < rows; ++r) {
      const float* z = in.row(r);
      std::int64_t* heights = f.heights.row(r);
      std::int32_t* there = f.there.row(r);
      for (std::int64_t c = 0; c < cols; ++c) {
        const bool is_there = !std::isnan(z[c]);
        const std::int64_t v = is_there ? steps_of(z[c], info_) : 0;
        heights[c + 1] = heights[c] + v;
        there[c + 1] = there[c] + (is_there ? 1 : 0);
        if (squares) f.squares.row(r)[c + 1] = f.squares.row(r)[c] + static_cast<Int128>(v) * v;
      }
    }
    return f;
  }

  // The cells of a stretch: of all radii the one that says most.
  void fill(const Block& in, const Field& field, CellsPerMetre reach, Place at, float* out) const {
    const auto n = static_cast<std::size_t>(at.n);
    std::vector<double> best(n, -1);
    std::vector<std::int64_t> heights(n);
    std::vector<std::int32_t> there(n);
    std::vector<Int128> squares(field.squares.empty() ? 0 : n);
    const float* z = in.row(at.row) + at.col;
    for (const Length radius : options_.radii) {
      std::fill(heights.begin(), heights.end(), 0);
      std::fill(there.begin(), there.end(), 0);
      std::fill(squares.begin(), squares.end(), 0);
      add(field, disc(radius, reach, false), at, 1, heights, there, squares);
      if (options_.inner.metres() > 0) add(field, disc(options_.inner, reach, true), at, -1, heights, there, squares);
      for (std::size_t c = 0; c < n; ++c) {
        if (std::isnan(z[c])) {
          out[c] = kVoid;
          continue;
        }
        if (there[c] == 0) {  // a ring with nothing in it says nothing
          if (best[c] < 0) out[c] = kVoid;
          continue;
        }
        const std::int64_t own = steps_of(z[c], info_), count = there[c];
        const double rise = static_cast<double>(count * own - heights[c]);
        double deviations = 0;
        if (!squares.empty()) {
          const Int128 spread = count * squares[c] - static_cast<Int128>(heights[c]) * heights[c];
          deviations = spread > 0 ? rise / std::sqrt(static_cast<double>(spread)) : 0;
        }
        if (std::abs(deviations) <= best[c]) continue;
        best[c] = std::abs(deviations);
        out[c] =
            static_cast<float>(options_.as == PositionAs::Height ? rise / (kHeightSteps * static_cast<double>(count))
                               : options_.as == PositionAs::Deviations ? deviations
                                                                       : radius.metres());
      }
    }
  }

  static Disc disc(Length radius, CellsPerMetre reach, bool open) {
    return disc_of(radius.metres() * reach.across, radius.metres() * reach.down, open);
  }
  static void add(const Field& f, const Disc& d, Place at, int sign, std::vector<std::int64_t>& heights,
                  std::vector<std::int32_t>& there, std::vector<Int128>& squares) {
    add_disc<std::int64_t>(f.heights, d, at.col, at.row, at.n, sign, heights);
    add_disc<std::int32_t>(f.there, d, at.col, at.row, at.n, sign, there);
    if (!squares.empty()) add_disc<Int128>(f.squares, d, at.col, at.row, at.n, sign, squares);
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
