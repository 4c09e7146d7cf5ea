#include "katoptra/terrain/derivatives.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/sun.hpp"

#include "base/clones.hpp"
#include "gradients.hpp"
#include "product_info.hpp"
#include "quadric.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

constexpr const char* kGradients[] = {"automatic", "horn", "zevenbergen-thorne", "quadric"};
constexpr const char* kLights[] = {"one", "several"};
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

KATOPTRA_CLONES void shade_row(const float* __restrict p, const float* __restrict q, std::int64_t n, float up,
                               float east, float north, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float light = (up - p[c] * east - q[c] * north) / std::sqrt(1 + p[c] * p[c] + q[c] * q[c]);
    const float lit = light > 0 ? light : (light <= 0 ? 0.0f : light);  // keeps NaN
    const float shade = 1 + 254 * lit;
    out[c] = shade - shade + std::floor(shade + 0.5f);
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

namespace {

// `a`: the sine of the altitude, then of each of four lights what it has of east and north, and the cosine and sine of
// its azimuth. The weights of four lights 45 degrees apart add up to two.
KATOPTRA_CLONES void shade_several(const float* __restrict p, const float* __restrict q, std::int64_t n,
                                   const float* __restrict a, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float steep = p[c] * p[c] + q[c] * q[c], shrink = 1 / std::sqrt(1 + steep);
    float sum = 0;
    for (int i = 0; i < 4; ++i) {
      const float* l = a + 1 + 4 * i;
      const float light = (a[0] - p[c] * l[0] - q[c] * l[1]) * shrink;
      const float across = p[c] * l[2] - q[c] * l[3], weight = steep > 0 ? across * across / steep : 0.5f;
      sum += weight * (light > 0 ? light : (light <= 0 ? 0.0f : light));
    }
    const float shade = 1 + 127 * sum;
    out[c] = shade - shade + std::floor(shade + 0.5f);
  }
}

using GradientRow = void (*)(const float* p, const float* q, std::int64_t n, const float* parameters, float* out);

void shade(const float* p, const float* q, std::int64_t n, const float* a, float* out) {
  shade_row(p, q, n, a[0], a[1], a[2], out);
}

void slope_degrees(const float* p, const float* q, std::int64_t n, const float*, float* out) {
  for (std::int64_t c = 0; c < n; ++c)
    out[c] = static_cast<float>(180 / std::numbers::pi) * std::atan(std::sqrt(p[c] * p[c] + q[c] * q[c]));
}

KATOPTRA_CLONES void slope_ratio(const float* p, const float* q, std::int64_t n, const float* a, float* out) {
  for (std::int64_t c = 0; c < n; ++c) out[c] = a[0] * std::sqrt(p[c] * p[c] + q[c] * q[c]);
}

void aspect_degrees(const float* p, const float* q, std::int64_t n, const float*, float* out) {
  for (std::int64_t c = 0; c < n; ++c) {
    if (p[c] == 0 && q[c] == 0) {
      out[c] = kVoid;
      continue;
    }
    float a = static_cast<float>(180 / std::numbers::pi) * std::atan2(-p[c], -q[c]);
    if (a < 0) a += 360;
    out[c] = a >= 360 ? 0 : a + 0.0f;  // north is 0, never -0
  }
}

class GradientSource final : public GridSource {
 public:
  GradientSource(Grid input, GridInfo info, double vertical, bool of_four, GradientRow row,
                 std::vector<float> parameters)
      : input_(std::move(input)),
        info_(std::move(info)),
        ruler_(info_.frame.crs()),
        vertical_(vertical),
        of_four_(of_four),
        row_(row),
        parameters_(std::move(parameters)) {}
  const GridInfo& info() const override { return info_; }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    const Block in = input_.read(w.grown(1), out.origin ? Planes::ValuesAndOrigin : Planes::Values);
    const GradientField field(info_.frame, ruler_, scale_step_, vertical_, of_four_, w);
    std::vector<float> p(static_cast<std::size_t>(w.cols)), q(p.size());
    for (std::int64_t r = 0; r < w.rows; ++r) {
      field.row(in, r, p.data(), q.data());
      row_(p.data(), q.data(), w.cols, parameters_.data(), out.row(r));
      if (out.origin) std::copy_n(in.origin_row(r + 1) + 1, w.cols, out.origin_row(r));
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(info_.frame);
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
    const Block in = input_.read(w.grown(1), out.origin ? Planes::ValuesAndOrigin : Planes::Values);
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

struct GradientProduct {
  double exaggeration = 1;
  bool of_four = false;
  GradientRow row = nullptr;
  std::vector<float> parameters = {};
};

Grid gradient_product(const Grid& surface, GridInfo info, const GradientProduct& what) {
  const double vertical = metres_per(surface.quantity().unit) * what.exaggeration;
  return Grid(
      std::make_shared<GradientSource>(surface, std::move(info), vertical, what.of_four, what.row, what.parameters));
}

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

GridInfo product_info(const Grid& surface, QuantityKind kind, const std::string& unit, SampleType type) {
  if (surface.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::Refused, fmt::format("its values are {}, not heights", name_of(surface.quantity().kind)),
                surface.info().name, "give the surface it was made from");
  GridInfo info = surface.info();
  info.quantity.kind = kind;
  info.quantity.other_unit = unit;
  info.type = type;
  info.file_void.reset();
  if (!info.frame.crs()) info.notes.push_back("no CRS: coordinates are taken for metres");
  if (!surface.quantity().unit_known) info.notes.push_back("the unit of the heights is not stated: taken for metres");
  return info;
}

namespace {

// The sun over the middle of the frame, its azimuth from grid north.
Light lit_by_sun(const Frame& frame, Light light) {
  if (!frame.crs())
    throw Error(ErrorCode::Refused, "nobody says where it lies, so the sun has no place over it", "hillshade",
                "name its CRS, or give azimuth and altitude");
  const Transform to_globe(frame.crs(), Crs::wgs84());
  const Point place = to_globe.forward(frame.bounds().centre());
  const SunPosition sun = sun_at(light.sun, place.x, place.y);
  if (sun.altitude.degrees() <= 0)
    throw Error(ErrorCode::BadArgument,
                fmt::format("the sun is {:.1f} degrees below the horizon at {}", -sun.altitude.degrees(), light.sun),
                "hillshade", "take another time; those that end in Z are UTC");
  constexpr double kStep = 1e-4;  // degrees
  const double way = place.y < 0 ? 1 : -1;
  const Point here = to_globe.inverse(place), there = to_globe.inverse({place.x, place.y + way * kStep});
  const double east = way * (there.x - here.x), north = way * (there.y - here.y);
  const double to_north = frame.crs().is_geographic() ? 0 : std::atan2(east, north) * 180 / std::numbers::pi;
  light.azimuth = Angle::degrees(sun.azimuth.degrees() + to_north);
  light.altitude = sun.altitude;
  return light;
}

}  // namespace

Lights parse_lights(std::string_view text) { return value_of<Lights>(kLights, text, "is no number of lights"); }

Grid hillshade(const Grid& surface, const Light& given) {
  GridInfo info = product_info(surface, QuantityKind::Shade, "", SampleType::UInt8);
  const Light light = given.sun.empty() ? given : lit_by_sun(surface.frame(), given);
  if (!(light.altitude.degrees() >= 0 && light.altitude.degrees() <= 90))
    throw Error(ErrorCode::BadArgument,
                fmt::format("a light at altitude {} degrees does not shine on the land", light.altitude.degrees()),
                "hillshade", "take 0 to 90 degrees");
  if (!(light.exaggeration > 0))
    throw Error(ErrorCode::BadArgument, "the exaggeration must be above zero", "hillshade");
  if (!given.sun.empty())
    info.notes.push_back(fmt::format("the sun stands {:.1f} degrees high, at azimuth {:.1f} degrees from grid north",
                                     light.altitude.degrees(), light.azimuth.degrees()));
  const double alt = light.altitude.radians(), flat = std::cos(alt);
  const auto of = [](double v) { return static_cast<float>(v); };
  GradientProduct product{.exaggeration = light.exaggeration, .row = shade, .parameters = {of(std::sin(alt))}};
  if (light.lights == Lights::One) {
    const double az = light.azimuth.radians();
    product.parameters.insert(product.parameters.end(), {of(flat * std::sin(az)), of(flat * std::cos(az))});
  } else {
    product.row = shade_several;
    for (const double turn : {-90.0, -45.0, 0.0, 45.0}) {
      const double az = Angle::degrees(light.azimuth.degrees() + turn).radians();
      product.parameters.insert(product.parameters.end(),
                                {of(flat * std::sin(az)), of(flat * std::cos(az)), of(std::cos(az)), of(std::sin(az))});
    }
  }
  return gradient_product(surface, std::move(info), product);
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
                                                    : fitted_ratio<1>);
  GradientProduct p{.of_four = way == Gradient::ZevenbergenThorne, .row = slope_degrees};
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
