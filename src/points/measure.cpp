#include "katoptra/points/measure.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

constexpr double kGroundReach = 20;
constexpr std::size_t kNearestGround = 10;

struct Surroundings {
  PointMeasure m;
  std::vector<std::pair<double, double>> ground;  // squared distance in radii, height
};

void add(Surroundings& s, double d2, double z, int classification) {
  if (classification == 2 && d2 <= kGroundReach * kGroundReach) s.ground.emplace_back(d2, z);
  if (d2 > 1) return;
  ++s.m.points;
  if (!(s.m.lowest <= z)) s.m.lowest = z;
  if (!(s.m.highest >= z)) {
    s.m.highest = z;
    s.m.highest_class = classification;
  }
}

PointMeasure nothing_at(Point place) {
  constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
  return {.place = place, .points = 0, .lowest = kNone, .highest = kNone, .highest_class = 0, .ground = kNone};
}

double ground_of(std::vector<std::pair<double, double>>& ground) {
  if (ground.empty()) return std::nan("");
  std::sort(ground.begin(), ground.end());
  const auto beyond =
      std::upper_bound(ground.begin(), ground.end(), std::pair{1.0, std::numeric_limits<double>::infinity()});
  auto inside = static_cast<std::size_t>(beyond - ground.begin());
  if (inside == 0) inside = std::min(ground.size(), kNearestGround);
  std::vector<double> z;
  for (std::size_t i = 0; i < inside; ++i) z.push_back(ground[i].second);
  std::nth_element(z.begin(), z.begin() + static_cast<std::ptrdiff_t>(z.size() / 2), z.end());
  return z[z.size() / 2];
}

}  // namespace

std::vector<PointMeasure> measure_points(const PointCloud& cloud, const std::vector<Point>& places, Length radius,
                                         const RunOptions& run) {
  const PointInfo& info = cloud.info();
  if (!(radius > Length()))
    throw Error(ErrorCode::BadArgument, "the radius to measure in must be above zero", info.name, "give it like 1m");
  std::vector<Surroundings> all(places.size());
  std::vector<GroundScale> scales(places.size());
  if (info.crs && !places.empty()) GroundRuler(info.crs).at(places, scales);
  for (std::size_t k = 0; k < places.size(); ++k) all[k].m = nothing_at(places[k]);
  map_points(
      cloud, PointFields::Class | PointFields::Flags, run,
      [&](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
        auto seen = std::make_shared<std::vector<Surroundings>>(places.size());
        for (std::size_t k = 0; k < places.size(); ++k) (*seen)[k].m = nothing_at(places[k]);
        for (std::size_t i = 0; i < b.size(); ++i) {
          const int c = b.classification.empty() ? 0 : b.classification[i];
          if (c == 7 || c == 18 || (!b.flags.empty() && (b.flags[i] & kWithheld))) continue;
          for (std::size_t k = 0; k < places.size(); ++k) {
            const double dx = (b.x[i] - places[k].x) * scales[k].x / radius.metres(),
                         dy = (b.y[i] - places[k].y) * scales[k].y / radius.metres();
            const double d2 = dx * dx + dy * dy;
            if (d2 <= kGroundReach * kGroundReach) add((*seen)[k], d2, b.z[i], c);
          }
        }
        return seen;
      },
      [&](std::shared_ptr<void> result) {
        auto& seen = *static_cast<std::vector<Surroundings>*>(result.get());
        for (std::size_t k = 0; k < places.size(); ++k) {
          PointMeasure &to = all[k].m, &from = seen[k].m;
          all[k].ground.insert(all[k].ground.end(), seen[k].ground.begin(), seen[k].ground.end());
          if (from.points == 0) continue;
          to.points += from.points;
          if (!(to.lowest <= from.lowest)) to.lowest = from.lowest;
          if (!(to.highest >= from.highest)) {
            to.highest = from.highest;
            to.highest_class = from.highest_class;
          }
        }
      });
  std::vector<PointMeasure> out;
  for (Surroundings& s : all) {
    s.m.ground = ground_of(s.ground);
    out.push_back(s.m);
  }
  return out;
}

}  // namespace katoptra
