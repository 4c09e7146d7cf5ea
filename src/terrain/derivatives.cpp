#include "katoptra/terrain/derivatives.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/position.hpp"

#include "arctangent.hpp"
#include "base/clones.hpp"
#include "derivative_errors.hpp"
#include "gradients.hpp"
#include "product_info.hpp"
#include "quadric.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

constexpr const char* kGradients[] = {"automatic", "horn", "zevenbergen-thorne", "quadric"};
constexpr const char* kSlopes[] = {"degrees", "percent", "ratio"};

// p: rise to the east, q: rise to the north, both as height over distance. NaN wherever one of the nine is missing;
// returns how many such cells have a height of their own.
KATOPTRA_CLONES std::int64_t gradients(const float* __restrict above, const float* __restrict here,
                                       const float* __restrict below, Ramp kx, Ramp ky, std::int32_t from,
                                       std::int32_t n, float* __restrict p, float* __restrict q) {
  std::int32_t open = 0;
  for (std::int32_t c = 0; c < n; ++c) {
    const float nw = above[c - 1], no = above[c], ne = above[c + 1], w = here[c - 1], e = here[c + 1],
                sw = below[c - 1], so = below[c], se = below[c + 1];
    // The centre takes no part in the sums; adding its difference makes them NaN where it is a void.
    const float centre = here[c] - here[c];
    const float east = ((ne + 2 * e + se) - (nw + 2 * w + sw) + centre) * kx.at(from + c),
                north = ((nw + 2 * no + ne) - (sw + 2 * so + se) + centre) * ky.at(from + c);
    p[c] = east;
    q[c] = north;
    const float both = east + north;
    open += (both != both) & (centre == centre) ? 1 : 0;
  }
  return open;
}

// The same of the four neighbours across and along (Zevenbergen & Thorne 1987). The ramps are Horn's.
KATOPTRA_CLONES std::int64_t gradients_of_four(const float* __restrict above, const float* __restrict here,
                                               const float* __restrict below, Ramp kx, Ramp ky, std::int32_t from,
                                               std::int32_t n, float* __restrict p, float* __restrict q) {
  std::int32_t open = 0;
  for (std::int32_t c = 0; c < n; ++c) {
    const float centre = here[c] - here[c];
    const float east = ((here[c + 1] - here[c - 1]) + centre) * (4 * kx.at(from + c)),
                north = ((above[c] - below[c]) + centre) * (4 * ky.at(from + c));
    p[c] = east;
    q[c] = north;
    const float both = east + north;
    open += (both != both) & (centre == centre) ? 1 : 0;
  }
  return open;
}

// Also what a cell needs that the quick way could not do: neighbours missing, centre there.
void mend_gradients(const float* above, const float* here, const float* below, Ramp kx, Ramp ky, std::int32_t from,
                    std::int32_t n, bool of_four, float* p, float* q) {
  for (std::int32_t c = 0; c < n; ++c) {
    if (!std::isnan(p[c] + q[c]) || std::isnan(here[c])) continue;
    const Nine nine = completed(above + c, here + c, below + c);
    const auto& z = nine.z;
    if (of_four) {
      p[c] = (z[1][2] - z[1][0]) * (4 * kx.at(from + c));
      q[c] = (z[0][1] - z[2][1]) * (4 * ky.at(from + c));
      continue;
    }
    p[c] = ((z[0][2] + 2 * z[1][2] + z[2][2]) - (z[0][0] + 2 * z[1][0] + z[2][0])) * kx.at(from + c);
    q[c] = ((z[0][0] + 2 * z[0][1] + z[0][2]) - (z[2][0] + 2 * z[2][1] + z[2][2])) * ky.at(from + c);
  }
}

}  // namespace

Nine completed(const float* above, const float* here, const float* below) {
  Nine n{{{above[-1], above[0], above[1]}, {here[-1], here[0], here[1]}, {below[-1], below[0], below[1]}}};
  const float c = n.z[1][1];
  bool missing[3][3];
  for (int r = 0; r < 3; ++r)
    for (int k = 0; k < 3; ++k) missing[r][k] = std::isnan(n.z[r][k]);
  auto across = [&](int r, int k) {
    if (missing[r][k]) n.z[r][k] = missing[2 - r][2 - k] ? c : 2 * c - n.z[2 - r][2 - k];
  };
  across(0, 1);
  across(2, 1);
  across(1, 0);
  across(1, 2);
  for (int r : {0, 2})
    for (int k : {0, 2})
      if (missing[r][k]) n.z[r][k] = missing[2 - r][2 - k] ? n.z[r][1] + n.z[1][k] - c : 2 * c - n.z[2 - r][2 - k];
  return n;
}

void GradientField::row(const Block& in, std::int64_t r, float* p, float* q) const {
  const auto kernel = of_four_ ? gradients_of_four : gradients;
  const float *above = in.row(r) + 1, *here = in.row(r + 1) + 1, *below = in.row(r + 2) + 1;
  for (std::int64_t c = 0; c < cols_;) {
    const ScaleRun k = scale_.run(r, c);
    const auto n = static_cast<std::int32_t>(k.end - c);
    if (kernel(above + c, here + c, below + c, k.x, k.y, k.from, n, p + c, q + c) > 0)
      mend_gradients(above + c, here + c, below + c, k.x, k.y, k.from, n, of_four_, p + c, q + c);
    c = k.end;
  }
}

void GradientField::factors(std::int64_t r, float* east, float* north) const {
  for (std::int64_t c = 0; c < cols_;) {
    const ScaleRun k = scale_.run(r, c);
    for (std::int32_t i = k.from; c < k.end; ++c, ++i) {
      east[c] = k.x.at(i);
      north[c] = k.y.at(i);
    }
  }
}

namespace {

constexpr double kDegrees = 180 / std::numbers::pi;

KATOPTRA_CLONES void slope_degrees(const float* __restrict p, const float* __restrict q, std::int64_t n, const float*,
                                   float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float rise = std::sqrt(p[c] * p[c] + q[c] * q[c]);
    out[c] = static_cast<float>(kDegrees * arctangent_of(static_cast<double>(rise), 1));
  }
}

KATOPTRA_CLONES void slope_ratio(const float* p, const float* q, std::int64_t n, const float* a, float* out) {
  for (std::int64_t c = 0; c < n; ++c) out[c] = a[0] * std::sqrt(p[c] * p[c] + q[c] * q[c]);
}

KATOPTRA_CLONES void aspect_degrees(const float* __restrict p, const float* __restrict q, std::int64_t n, const float*,
                                    float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const double east = -static_cast<double>(p[c]), north = -static_cast<double>(q[c]);
    double a = kDegrees * arctangent_of(std::abs(east), std::abs(north));
    a = north < 0 ? 180 - a : a;
    a = east < 0 ? 360 - a : a;
    const auto rounded = static_cast<float>(a);
    const bool flat = (p[c] == 0) & (q[c] == 0);
    out[c] = flat ? kVoid : rounded >= 360 ? 0 : rounded + 0.0f;  // north is 0, never -0
  }
}

class GradientSource final : public GridSource {
 public:
  GradientSource(Grid input, GridInfo info, double vertical, const GradientProduct& what)
      : input_(std::move(input)),
        info_(std::move(info)),
        ruler_(info_.frame.crs()),
        vertical_(vertical),
        of_four_(what.of_four),
        row_(what.row),
        parameters_(what.parameters) {
    if (!what.states_error || !input_.carries_uncertainty()) return;
    const std::vector<double> step{-1, 0, 1},
        beside = of_four_ ? std::vector<double>{0, 1, 0} : std::vector<double>{1, 2, 1};
    const WindowCovariance errors(input_.info());
    east_ = errors.of({step, beside});
    north_ = errors.of({beside, step});
    info_.error_reach = reach_over_window(input_.info(), 3);
  }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return east_ > 0; }
  void expect(const Window& w) const override { input_.expect(w.grown(1)); }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Block in = input_.read(w.grown(1), out.planes());
    const GradientField field(info_.frame, ruler_, scale_step_, vertical_, of_four_, w);
    std::vector<float> p(static_cast<std::size_t>(w.cols)), q(p.size());
    for (std::int64_t r = 0; r < w.rows; ++r) {
      field.row(in, r, p.data(), q.data());
      row_(p.data(), q.data(), w.cols, parameters_.data(), out.row(r));
      if (out.origin) std::copy_n(in.origin_row(r + 1) + 1, w.cols, out.origin_row(r));
      if (out.uncertainty) state_errors(in, field, r, p, q, out.row(r), out.uncertainty_row(r));
    }
  }

 private:
  void state_errors(const Block& in, const GradientField& field, std::int64_t r, const std::vector<float>& p,
                    const std::vector<float>& q, const float* value, float* uncertainty) const {
    const std::size_t n = p.size();
    std::vector<double> of_cell(n), growths(n), squares(n, 0.0);
    mean_squares(in, r, 1, of_cell);
    for (std::size_t c = 0; c < n; ++c) growths[c] = growth(in, r, c);
    std::vector<float> east(n), north(n), moved(n), up(n), down(n);
    field.factors(r, east.data(), north.data());
    const auto by = [&](const std::vector<float>& from, const std::vector<float>& factor, double variance, bool first) {
      const auto evaluated = [&](float side, std::vector<float>& to) {
        for (std::size_t c = 0; c < n; ++c)
          moved[c] = from[c] + side * (of_four_ ? 4 : 1) * factor[c] *
                                   static_cast<float>(std::sqrt(variance * of_cell[c] * growths[c]));
        row_(first ? moved.data() : p.data(), first ? q.data() : moved.data(), static_cast<std::int64_t>(n),
             parameters_.data(), to.data());
      };
      evaluated(1, up);
      evaluated(-1, down);
      add_change(value, up.data(), down.data(), squares);
    };
    by(p, east, east_, true);
    by(q, north, north_, false);
    for (std::size_t c = 0; c < n; ++c)
      if (std::isnan(of_cell[c])) squares[c] = std::nan("");
    state_error(value, squares, uncertainty);
  }
  // Where neighbours are continued across the cell, its own error counts more: of a column that is missing 88 times the
  // variance of a cell instead of 12, of a neighbour of four 8 times instead of 2.
  double growth(const Block& in, std::int64_t r, std::size_t c) const {
    for (std::int64_t j = 0; j < 3; ++j)
      for (std::size_t i = 0; i < 3; ++i)
        if (std::isnan(in.row(r + j)[c + i])) return of_four_ ? 4 : 8;
    return 1;
  }

  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(info_.frame);
  double east_ = 0, north_ = 0;  // variances of Horn's sums, of a cell's; 0 where errors are not stated
  double vertical_;
  bool of_four_;
  GradientRow row_;
  std::vector<float> parameters_;
};

class RoughnessSource final : public GridSource {
 public:
  RoughnessSource(Grid input, GridInfo info) : input_(std::move(input)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Block in = input_.read(w.grown(1), out.planes());
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (std::int64_t c = 0; c < w.cols; ++c) {
        float low = in.at(c + 1, r + 1), high = low;
        for (std::int64_t j = 0; j < 3; ++j)
          for (std::int64_t i = 0; i < 3; ++i) {
            const float z = in.at(c + i, r + j);
            if (z < low) low = z;
            if (z > high) high = z;
          }
        out.row(r)[c] = high - low;
      }
      if (out.origin) std::copy_n(in.origin_row(r + 1) + 1, w.cols, out.origin_row(r));
    }
  }

 private:
  Grid input_;
  GridInfo info_;
};

}  // namespace

Grid gradient_product(const Grid& surface, GridInfo info, const GradientProduct& what) {
  const double vertical = metres_per(surface.quantity().unit) * what.exaggeration;
  return Grid(std::make_shared<GradientSource>(surface, std::move(info), vertical, what));
}

namespace {

// Of the quadric's derivatives.
void fitted_degrees(const Derivatives& d, std::int64_t n, float* out) { slope_degrees(d.x, d.y, n, nullptr, out); }
template <int kFactor>
void fitted_ratio(const Derivatives& d, std::int64_t n, float* out) {
  constexpr float kOne = kFactor;
  slope_ratio(d.x, d.y, n, &kOne, out);
}
void fitted_aspect(const Derivatives& d, std::int64_t n, float* out) { aspect_degrees(d.x, d.y, n, nullptr, out); }

// Which of the three it is; refuses what does not go together.
Gradient chosen(const GradientOptions& o, const char* where) {
  require_window(o.window, where);
  if (o.gradient == Gradient::Automatic) return o.window == 3 ? Gradient::Horn : Gradient::Quadric;
  if (o.gradient != Gradient::Quadric && o.window != 3)
    throw Error(ErrorCode::BadArgument,
                fmt::format("the gradient {} is one of 3 x 3 cells, not of {}", name_of(o.gradient), o.window), where,
                "leave the gradient out, or say quadric");
  return o.gradient;
}

}  // namespace

void require_heights(const Grid& surface) {
  if (surface.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, not heights", name_of(surface.quantity().kind)),
                surface.info().name, "give the surface it was made from");
  constexpr double kLeastMetres = 0.02;  // of a cell: finer than any survey of land
  const Frame& f = surface.frame();
  const Bounds b = f.bounds();
  if (!f.crs() && b.west >= -181 && b.east <= 361 && b.south >= -91 && b.north <= 91 && f.cell().x < kLeastMetres)
    throw Error(ErrorCode::Refused,
                "has no CRS, and its coordinates look like degrees: as metres every slope would be wrong",
                surface.info().name, "tell what they are, for instance --from-crs EPSG:4326 (or --crs)");
}

void require_radius(const Grid& surface, Length radius) {
  const GroundSpacing cell = ground_spacing(surface.frame());
  const double least = std::min(cell.x.metres(), cell.y.metres()), most = std::max(cell.x.metres(), cell.y.metres());
  if (!(radius.metres() >= most))
    throw Error(ErrorCode::BadArgument,
                fmt::format("a radius of {:g} m is shorter than a cell, which is {:.4g} m", radius.metres(), most),
                surface.info().name, "take a longer radius");
  if (radius.metres() > kFarthestCells * least)
    throw Error(
        ErrorCode::BadArgument,
        fmt::format("a radius of {:g} m is longer than {} cells of {:.4g} m", radius.metres(), kFarthestCells, least),
        surface.info().name, "take a shorter radius, or bring the surface to larger cells with reproject --cell");
}

void require_exaggeration(double times, const char* where) {
  if (!(times > 0 && times <= kMostExaggerated))
    throw Error(ErrorCode::BadArgument, fmt::format("heights cannot be exaggerated {:g} times", times), where,
                fmt::format("take a number above zero, at most {:g}", kMostExaggerated));
}

GridInfo product_info(const Grid& surface, QuantityKind kind, const std::string& unit, SampleType type) {
  require_heights(surface);
  GridInfo info = surface.info();
  info.quantity.kind = kind;
  info.quantity.other_unit = unit;
  info.type = type;
  info.file_void.reset();
  if (!info.frame.crs()) info.notes.push_back("no CRS: coordinates are taken for metres");
  if (!surface.quantity().unit_known) info.notes.push_back("the unit of the heights is not stated: taken for metres");
  return info;
}

SlopeAs parse_slope_as(std::string_view text) {
  return value_of<SlopeAs>(kSlopes, text, "is not a way to give a slope");
}

const char* name_of(Gradient gradient) { return kGradients[static_cast<std::size_t>(gradient)]; }

Gradient parse_gradient(std::string_view text) {
  return value_of<Gradient>(kGradients, text, "is no way to take a gradient");
}

Grid slope(const Grid& surface, SlopeAs as, const GradientOptions& options) {
  const Gradient way = chosen(options, "slope");
  const char* unit = as == SlopeAs::Degrees ? "degree" : as == SlopeAs::Percent ? "percent" : "ratio";
  GridInfo info = product_info(surface, QuantityKind::Slope, unit, SampleType::Float32);
  if (way == Gradient::Quadric)
    return quadric_product(surface, std::move(info), options.window,
                           as == SlopeAs::Degrees   ? fitted_degrees
                           : as == SlopeAs::Percent ? fitted_ratio<100>
                                                    : fitted_ratio<1>,
                           true);
  GradientProduct p{.of_four = way == Gradient::ZevenbergenThorne, .states_error = true, .row = slope_degrees};
  if (as != SlopeAs::Degrees) {
    p.row = slope_ratio;
    p.parameters = {as == SlopeAs::Percent ? 100.0f : 1.0f};
  }
  return gradient_product(surface, std::move(info), p);
}

Grid aspect(const Grid& surface, const GradientOptions& options) {
  const Gradient way = chosen(options, "aspect");
  GridInfo info = product_info(surface, QuantityKind::Aspect, "degree", SampleType::Float32);
  if (way == Gradient::Quadric) return quadric_product(surface, std::move(info), options.window, fitted_aspect);
  return gradient_product(surface, std::move(info),
                          {.of_four = way == Gradient::ZevenbergenThorne, .row = aspect_degrees});
}

Grid roughness(const Grid& surface) {
  return Grid(std::make_shared<RoughnessSource>(
      surface, product_info(surface, QuantityKind::Roughness, "", SampleType::Float32)));
}

}  // namespace katoptra
