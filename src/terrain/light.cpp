// Light on the ground: Lambert's law from gradients, toned so that it does not blow out, and mixed with shadows and the
// light of the sky.
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <mutex>
#include <numbers>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/terrain/derivatives.hpp"
#include "katoptra/terrain/sight.hpp"
#include "katoptra/terrain/sun.hpp"

#include "base/clones.hpp"
#include "gradients.hpp"
#include "product_info.hpp"
#include "shadows.hpp"
#include "words.hpp"

namespace katoptra {
namespace {

constexpr const char* kLights[] = {"one", "several"};

// ---- shades of gradients
//
// Parameters: how far light reaches round (0: Lambert's law), and what it is multiplied by; then those of the lights.

KATOPTRA_CLONES void shade_row(const float* __restrict p, const float* __restrict q, std::int64_t n,
                               const float* __restrict a, float* __restrict out) {
  const float wrap = a[0], gain = a[1], up = a[2], east = a[3], north = a[4];
  for (std::int64_t c = 0; c < n; ++c) {
    const float light = ((up - p[c] * east - q[c] * north) / std::sqrt(1 + p[c] * p[c] + q[c] * q[c]) + wrap) * gain;
    const float lit = light > 0 ? light : (light <= 0 ? 0.0f : light);  // keeps NaN
    const float shade = 1 + 254 * lit;
    out[c] = shade - shade + std::floor(shade + 0.5f);
  }
}

// The sine of the altitude, then of each of four lights what it has of east and north, and the cosine and sine of its
// azimuth. The weights of four lights 45 degrees apart add up to two.
KATOPTRA_CLONES void shade_several_row(const float* __restrict p, const float* __restrict q, std::int64_t n,
                                       const float* __restrict a, float* __restrict out) {
  const float wrap = a[0], gain = a[1];
  for (std::int64_t c = 0; c < n; ++c) {
    const float steep = p[c] * p[c] + q[c] * q[c], shrink = 1 / std::sqrt(1 + steep);
    float sum = 0;
    for (int i = 0; i < 4; ++i) {
      const float* l = a + 3 + 4 * i;
      const float light = ((a[2] - p[c] * l[0] - q[c] * l[1]) * shrink + wrap) * gain;
      const float across = p[c] * l[2] - q[c] * l[3], weight = steep > 0 ? across * across / steep : 0.5f;
      sum += weight * (light > 0 ? light : (light <= 0 ? 0.0f : light));
    }
    const float shade = 1 + 127 * sum;
    out[c] = shade - shade + std::floor(shade + 0.5f);
  }
}

void shade(const float* p, const float* q, std::int64_t n, const float* a, float* out) { shade_row(p, q, n, a, out); }
void shade_several(const float* p, const float* q, std::int64_t n, const float* a, float* out) {
  shade_several_row(p, q, n, a, out);
}

GradientProduct shading(const Light& light) {
  const double alt = light.altitude.radians(), flat = std::cos(alt);
  const auto of = [](double v) { return static_cast<float>(v); };
  GradientProduct product{.exaggeration = light.exaggeration, .row = shade, .parameters = {0, 1, of(std::sin(alt))}};
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
  return product;
}

// ---- tone

// Gradients all over the surface, without exaggeration: of all cells where there are few, else of 64 windows.
struct SlopeSample {
  std::vector<float> p, q;
};

SlopeSample sample_slopes(const Grid& surface) {
  constexpr std::int64_t kAcross = 8, kEdge = 64;
  const Frame& f = surface.frame();
  const GroundRuler ruler(f.crs());
  const std::int64_t step = scale_step(f);
  SlopeSample out;
  std::vector<float> p(static_cast<std::size_t>(kEdge)), q(p.size());
  for (std::int64_t i = 0; i < kAcross * kAcross; ++i) {
    // The middle of each part of the surface; the parts themselves where they are small.
    const auto part = [&](std::int64_t k, std::int64_t n) {
      const std::int64_t from = k * n / kAcross, end = (k + 1) * n / kAcross, size = std::min(end - from, kEdge);
      return std::pair{from + (end - from - size) / 2, size};
    };
    const auto [col, cols] = part(i % kAcross, f.cols());
    const auto [row, rows] = part(i / kAcross, f.rows());
    const Window w{col, row, cols, rows};
    if (w.cells() == 0) continue;
    const Block in = surface.read(w.grown(1));
    const GradientField field(f, ruler, step, metres_per(surface.quantity().unit), false, w);
    for (std::int64_t r = 0; r < rows; ++r) {
      field.row(in, r, p.data(), q.data());
      for (std::size_t c = 0; c < static_cast<std::size_t>(cols); ++c) {
        if (std::isnan(p[c] + q[c])) continue;
        out.p.push_back(p[c]);
        out.q.push_back(q[c]);
      }
    }
  }
  return out;
}

// Half of what is promised, for a sample is not the whole.
constexpr double kAimed = kMostAtAnEnd / 2;

double share_at(const std::vector<float>& shades, bool dark) {
  const auto n = std::count_if(shades.begin(), shades.end(), [&](float s) { return dark ? s <= 1 : s >= 255; });
  return static_cast<double>(n) / static_cast<double>(std::max<std::size_t>(1, shades.size()));
}

// Changes the first two parameters until neither end of the scale holds too much.
void tone(GradientProduct& product, const Grid& surface) {
  SlopeSample sample = sample_slopes(surface);
  const auto times = static_cast<float>(product.exaggeration);
  for (auto* v : {&sample.p, &sample.q})
    for (float& g : *v) g *= times;
  std::vector<float> shades(sample.p.size());
  const auto shade_all = [&](double wrap, double brightness) {
    product.parameters[0] = static_cast<float>(wrap);
    product.parameters[1] = static_cast<float>(brightness / (1 + wrap));
    product.row(sample.p.data(), sample.q.data(), std::ssize(shades), product.parameters.data(), shades.data());
  };
  double wrap = 0;
  shade_all(0, 1);
  if (share_at(shades, true) > kAimed) {
    double enough = 1.05, little = 0;  // then even what faces straight away has a little
    for (int i = 0; i < 7; ++i) {
      const double half = (enough + little) / 2;
      shade_all(half, 1);
      (share_at(shades, true) > kAimed ? little : enough) = half;
    }
    wrap = enough;
    shade_all(wrap, 1);
  }
  constexpr double kDimmed = 0.95;
  if (share_at(shades, false) > kAimed) shade_all(wrap, kDimmed);
}

class TonedShade final : public GridSource {
 public:
  TonedShade(Grid surface, GridInfo info, GradientProduct product)
      : surface_(std::move(surface)), info_(std::move(info)), product_(std::move(product)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    std::call_once(once_, [&] {
      GradientProduct product = product_;
      tone(product, surface_);
      shade_ = gradient_product(surface_, info_, product);
    });
    shade_.read_into(out);
  }

 private:
  Grid surface_;
  GridInfo info_;
  GradientProduct product_;
  mutable std::once_flag once_;
  mutable Grid shade_;
};

// The exaggeration by which nine cells in ten are flatter than 31 degrees, under several lights 56.
double exaggeration_for(const Grid& surface, Lights lights, std::vector<std::string>& notes) {
  const SlopeSample sample = sample_slopes(surface);
  std::vector<double> steep;
  for (std::size_t i = 0; i < sample.p.size(); ++i)
    steep.push_back(std::hypot(static_cast<double>(sample.p[i]), static_cast<double>(sample.q[i])));
  if (steep.empty()) return 1;
  const auto at = steep.begin() + static_cast<std::ptrdiff_t>(0.9 * static_cast<double>(steep.size() - 1));
  std::nth_element(steep.begin(), at, steep.end());
  constexpr double kLeast = 0.1, kMost = 50;
  const double steep_then = lights == Lights::One ? 0.6 : 1.5;
  const double wanted = std::clamp(*at > 0 ? steep_then / *at : kMost, kLeast, kMost);
  const double digits = std::pow(10, 1 - std::floor(std::log10(wanted)));
  const double e = std::round(wanted * digits) / digits;
  notes.push_back(
      fmt::format("heights are multiplied by {:g} for the light: nine cells in ten are flatter than {:.2g} degrees", e,
                  std::atan(*at) * 180 / std::numbers::pi));
  return e;
}

// ---- the sun

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

// With the sun for its light and the exaggeration that the surface needs, both noted.
Light resolved(const Grid& surface, const Light& given, std::vector<std::string>& notes, const char* what) {
  Light light = given.sun.empty() ? given : lit_by_sun(surface.frame(), given);
  if (!(light.altitude.degrees() >= 0 && light.altitude.degrees() <= 90))
    throw Error(ErrorCode::BadArgument,
                fmt::format("a light at altitude {} degrees does not shine on the land", light.altitude.degrees()),
                what, "take 0 to 90 degrees");
  if (!given.sun.empty())
    notes.push_back(fmt::format("the sun stands {:.1f} degrees high, at azimuth {:.1f} degrees from grid north",
                                light.altitude.degrees(), light.azimuth.degrees()));
  if (light.exaggeration == kExaggerationOfSurface) light.exaggeration = exaggeration_for(surface, light.lights, notes);
  require_exaggeration(light.exaggeration, what);
  return light;
}

// ---- mixtures

class MixedShade final : public GridSource {
 public:
  MixedShade(GridInfo info, Grid direct, Grid shadow, Grid sky, double share)
      : info_(std::move(info)),
        direct_(std::move(direct)),
        shadow_(std::move(shadow)),
        sky_(std::move(sky)),
        share_(static_cast<float>(share)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    direct_.read_into(out);
    const Window& w = out.window;
    const Block shadow = shadow_ ? shadow_.read(w) : Block(), sky = sky_ ? sky_.read(w) : Block();
    constexpr float kLeft = 1.0f / 3;  // of the light, in a shadow
    constexpr float kOpenSky = 0.95f;  // what lies open to all of the sky is not white
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        float& shade = out.row(r)[c];
        if (std::isnan(shade)) continue;
        const float least = shade > 1 ? 2 : 1;  // no shadow makes black what the light did not
        float lit = (shade - 1) / 254;
        if (shadow_ && shadow.at(c, r) == 1) lit *= kLeft;
        if (sky_) lit += share_ * (kOpenSky * sky.at(c, r) - lit);
        shade = std::max(least, std::floor(1.5f + 254 * lit));
      }
  }

 private:
  GridInfo info_;
  Grid direct_, shadow_, sky_;
  float share_;
};

Grid shadows_of(const Grid& surface, const Light& light, GridInfo info) {
  if (!(light.altitude.degrees() > 0))
    throw Error(ErrorCode::BadArgument, "under a light on the horizon all is in shadow", "shadows",
                "let it stand higher, for instance 5deg");
  return cast_shadows(surface, std::move(info), light.azimuth, light.altitude,
                      metres_per(surface.quantity().unit) * light.exaggeration);
}

}  // namespace

Lights parse_lights(std::string_view text) { return value_of<Lights>(kLights, text, "is no number of lights"); }

Grid hillshade(const Grid& surface, const Light& given) {
  GridInfo info = product_info(surface, QuantityKind::Shade, "", SampleType::UInt8);
  const Light light = resolved(surface, given, info.notes, "hillshade");
  if (!(light.sky >= 0 && light.sky <= 1))
    throw Error(ErrorCode::BadArgument, fmt::format("{:g} is no share of the light", light.sky), "hillshade",
                "take 0 to 1 for the sky");
  const Grid direct(std::make_shared<TonedShade>(surface, info, shading(light)));
  if (!light.shadows && light.sky == 0) return direct;
  Grid shadow, sky;
  if (light.shadows) shadow = shadows_of(surface, light, info);
  if (light.sky > 0) {
    sky = sky_view(surface, {.radius = light.sky_radius, .exaggeration = light.exaggeration});
    if (!light.sky_radius) info.notes.push_back(sky.info().notes.back());
  }
  return Grid(std::make_shared<MixedShade>(std::move(info), direct, shadow, sky, light.sky));
}

Grid shadows(const Grid& surface, const Light& given) {
  GridInfo info = product_info(surface, QuantityKind::Shadow, "", SampleType::UInt8);
  const Light light = resolved(surface, given, info.notes, "shadows");
  return shadows_of(surface, light, std::move(info));
}

}  // namespace katoptra
