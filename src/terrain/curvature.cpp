#include "katoptra/terrain/curvature.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"
#include "product_info.hpp"
#include "quadric.hpp"

namespace katoptra {
namespace {

// A curvature that needs the direction of slope: none on level ground, where flat ground has zero and other a void.
// What it would be without the zero: 0 / 0 is NaN, which a void keeps, too.
float directed(float bend, float scale, const Derivatives& d, std::int64_t c) {
  const float k = -bend / scale;
  return scale == 0 && d.xx[c] == 0 && d.yy[c] == 0 && d.xy[c] == 0 ? 0 : scale == 0 ? kVoid : k;
}

float across(const Derivatives& d, std::int64_t c) {
  const float p = d.x[c], q = d.y[c];
  return q * q * d.xx[c] - 2 * p * q * d.xy[c] + p * p * d.yy[c];
}

float steepness(const Derivatives& d, std::int64_t c) { return d.x[c] * d.x[c] + d.y[c] * d.y[c]; }

KATOPTRA_CLONES void profile(const Derivatives& d, std::int64_t n, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float p = d.x[c], q = d.y[c], g = steepness(d, c);
    const float bend = p * p * d.xx[c] + 2 * p * q * d.xy[c] + q * q * d.yy[c];
    out[c] = directed(bend, g * (1 + g) * std::sqrt(1 + g), d, c);
  }
}

KATOPTRA_CLONES void plan(const Derivatives& d, std::int64_t n, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float g = steepness(d, c);
    out[c] = directed(across(d, c), g * std::sqrt(g), d, c);
  }
}

KATOPTRA_CLONES void tangential(const Derivatives& d, std::int64_t n, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float g = steepness(d, c);
    out[c] = directed(across(d, c), g * std::sqrt(1 + g), d, c);
  }
}

KATOPTRA_CLONES void mean(const Derivatives& d, std::int64_t n, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float p = d.x[c], q = d.y[c], w = 1 + (p * p + q * q);
    const float sum = (1 + q * q) * d.xx[c] - 2 * p * q * d.xy[c] + (1 + p * p) * d.yy[c];
    out[c] = -sum / (2 * w * std::sqrt(w));
  }
}

KATOPTRA_CLONES void gaussian(const Derivatives& d, std::int64_t n, float* __restrict out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const float w = 1 + steepness(d, c);
    out[c] = (d.xx[c] * d.yy[c] - d.xy[c] * d.xy[c]) / (w * w);
  }
}

// What the two differ by is the root of a difference: in doubles. Below zero by rounding only.
void of_both(const Derivatives& d, std::int64_t n, double side, float* out) {
  for (std::int64_t c = 0; c < n; ++c) {
    const double p = static_cast<double>(d.x[c]), q = static_cast<double>(d.y[c]), w = 1 + p * p + q * q;
    const double xx = static_cast<double>(d.xx[c]), xy = static_cast<double>(d.xy[c]),
                 yy = static_cast<double>(d.yy[c]);
    const double h = -((1 + q * q) * xx - 2 * p * q * xy + (1 + p * p) * yy) / (2 * w * std::sqrt(w)),
                 spread = h * h - (xx * yy - xy * xy) / (w * w);
    out[c] = static_cast<float>(h + side * std::sqrt(std::max(spread, 0.0)));
  }
}

void largest(const Derivatives& d, std::int64_t n, float* __restrict out) { of_both(d, n, 1, out); }
void smallest(const Derivatives& d, std::int64_t n, float* __restrict out) { of_both(d, n, -1, out); }

struct KindRow {
  CurvatureKind kind;
  const char* name;
  const char* unit;
  DerivativeRow row;
};
constexpr KindRow kCurvatureKinds[] = {{CurvatureKind::Profile, "profile", "1/m", profile},
                                       {CurvatureKind::Plan, "plan", "1/m", plan},
                                       {CurvatureKind::Tangential, "tangential", "1/m", tangential},
                                       {CurvatureKind::Mean, "mean", "1/m", mean},
                                       {CurvatureKind::Largest, "largest", "1/m", largest},
                                       {CurvatureKind::Smallest, "smallest", "1/m", smallest},
                                       {CurvatureKind::Gaussian, "gaussian", "1/m2", gaussian}};

}  // namespace

CurvatureKind parse_curvature_kind(std::string_view text) {
  for (const KindRow& k : kCurvatureKinds)
    if (text == k.name) return k.kind;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no kind of curvature", text), {},
              "use profile, plan, tangential, mean, largest, smallest or gaussian");
}

Grid curvature(const Grid& surface, CurvatureKind kind, int window) {
  require_window(window, "curvature");
  const KindRow& k = kCurvatureKinds[static_cast<std::size_t>(kind)];
  return quadric_product(surface, product_info(surface, QuantityKind::Curvature, k.unit, SampleType::Float32), window,
                         k.row, true);
}

}  // namespace katoptra
