// The ground filter on the lidar of the example island, whose true classes are known: progressive morphology, which
// classify_ground uses, beside cloth simulation, which is built here only to be compared.
//   build/bin/ground
// Still water looks like ground to both, so errors are told for all points and for those on land.
#include "katoptra/points/ground.hpp"

#include <array>
#include <deque>

#include "katoptra/points/points.hpp"

#include "bench.hpp"
#include "lidar.hpp"

namespace {

using namespace katoptra;

constexpr int kGround = 2, kLowNoise = 7, kWater = 9, kHighNoise = 18;

struct Errors {
  std::size_t points = 0, missed = 0, false_ground = 0, ground = 0;
  void add(bool is, bool told) {
    ++points;
    ground += is;
    missed += is && !told;
    false_ground += !is && told;
  }
  double total() const { return 100.0 * static_cast<double>(missed + false_ground) / static_cast<double>(points); }
};

void tell(const std::string& name, double seconds, const PointBatch& truth, const std::vector<std::uint8_t>& told) {
  Errors all, land;
  for (std::size_t i = 0; i < truth.size(); ++i) {
    all.add(truth.classification[i] == kGround, told[i]);
    if (truth.classification[i] != kWater) land.add(truth.classification[i] == kGround, told[i]);
  }
  fmt::print(
      "{:34} {:6.2f} s, {:.2f} M points/s  total error {:5.2f} %; on land {:5.2f} % ({} of {} missed, {} others "
      "taken)\n",
      name, seconds, static_cast<double>(truth.size()) / seconds / 1e6, all.total(), land.total(), land.missed,
      land.ground, land.false_ground);
}

// Cloth simulation after Zhang et al. (2016), "An easy-to-use airborne LiDAR data filtering method based on cloth
// simulation": a cloth of particles falls on the points turned upside down; where it comes to rest is the ground.
class Cloth {
 public:
  struct Options {
    double cell = 1, near = 0.25, step = 0.65;
    int rigidness = 2, most_rounds = 500;
    bool steep = true;  // afterwards, lets the cloth down along slopes that held it up
  };
  Cloth(const PointBatch& b, const std::vector<std::uint8_t>& use, const Options& o) : o_(o) {
    Bounds box;
    for (std::size_t i = 0; i < b.size(); ++i)
      if (use[i]) box.include(Point{b.x[i], b.y[i]});
    west_ = box.west - 2 * o.cell;
    north_ = box.north + 2 * o.cell;
    cols_ = static_cast<std::size_t>(box.width() / o.cell) + 6;
    rows_ = static_cast<std::size_t>(box.height() / o.cell) + 6;
    rest_at_the_points(b, use);
    fall();
    if (o.steep) let_down();
  }
  double at(double x, double y) const {
    const double c = (x - west_) / o_.cell, r = (north_ - y) / o_.cell;
    const auto c0 = static_cast<std::size_t>(c), r0 = static_cast<std::size_t>(r);
    const double tc = c - std::floor(c), tr = r - std::floor(r);
    const double* z = z_.data() + r0 * cols_ + c0;
    return -((z[0] * (1 - tc) + z[1] * tc) * (1 - tr) + (z[cols_] * (1 - tc) + z[cols_ + 1] * tc) * tr);
  }

 private:
  // For each particle the upside-down height of the point nearest to it in place; neighbours lend theirs to gaps.
  void rest_at_the_points(const PointBatch& b, const std::vector<std::uint8_t>& use) {
    const std::size_t n = cols_ * rows_;
    std::vector<double> nearest(n, 1e300);
    floor_.assign(n, -1e300);
    for (std::size_t i = 0; i < b.size(); ++i) {
      if (!use[i]) continue;
      const double c = std::round((b.x[i] - west_) / o_.cell), r = std::round((north_ - b.y[i]) / o_.cell);
      const auto k = static_cast<std::size_t>(r) * cols_ + static_cast<std::size_t>(c);
      const double d = std::hypot(b.x[i] - west_ - c * o_.cell, north_ - b.y[i] - r * o_.cell);
      if (d < nearest[k]) {
        nearest[k] = d;
        floor_[k] = -b.z[i];
      }
    }
    std::deque<std::size_t> edge;
    for (std::size_t k = 0; k < n; ++k)
      if (floor_[k] > -1e299) edge.push_back(k);
    while (!edge.empty()) {
      const std::size_t k = edge.front();
      edge.pop_front();
      for (std::size_t m : neighbours(k))
        if (m < n && floor_[m] < -1e299) {
          floor_[m] = floor_[k];
          edge.push_back(m);
        }
    }
  }
  std::array<std::size_t, 4> neighbours(std::size_t k) const {
    const std::size_t none = cols_ * rows_, c = k % cols_;
    return {c > 0 ? k - 1 : none, c + 1 < cols_ ? k + 1 : none, k >= cols_ ? k - cols_ : none,
            k + cols_ < none ? k + cols_ : none};
  }
  void fall() {
    const std::size_t n = cols_ * rows_;
    z_.assign(n, *std::max_element(floor_.begin(), floor_.end()) + 0.05);
    std::vector<double> before = z_;
    moves_.assign(n, 1);
    for (int round = 0; round < o_.most_rounds; ++round) {
      const std::vector<double> last = z_;
      for (std::size_t k = 0; k < n; ++k) {
        if (!moves_[k]) continue;
        const double z = z_[k];
        z_[k] += (z - before[k]) * 0.99 - 0.2 * o_.step * o_.step;
        before[k] = z;
      }
      for (int r = 0; r < o_.rigidness; ++r)
        for (std::size_t k = 0; k < n; ++k)
          for (std::size_t m : {k % cols_ + 1 < cols_ ? k + 1 : n, k + cols_ < n ? k + cols_ : n}) {
            if (m == n) continue;
            const double half = (z_[m] - z_[k]) / 2;
            if (moves_[k]) z_[k] += half;
            if (moves_[m]) z_[m] -= half;
          }
      double most = 0;
      for (std::size_t k = 0; k < n; ++k) {
        if (moves_[k] && z_[k] < floor_[k]) {
          z_[k] = floor_[k];
          moves_[k] = 0;
        }
        most = std::max(most, std::abs(z_[k] - last[k]));
      }
      if (most < 0.005) break;
    }
  }
  // A particle that hangs beside one that rests, with the points below both at nearly one height, comes down, too.
  void let_down() {
    std::deque<std::size_t> edge;
    for (std::size_t k = 0; k < z_.size(); ++k)
      if (!moves_[k]) edge.push_back(k);
    while (!edge.empty()) {
      const std::size_t k = edge.front();
      edge.pop_front();
      for (std::size_t m : neighbours(k))
        if (m < z_.size() && moves_[m] && std::abs(floor_[m] - floor_[k]) < 0.3 * o_.cell) {
          z_[m] = floor_[m];
          moves_[m] = 0;
          edge.push_back(m);
        }
    }
  }
  Options o_;
  double west_ = 0, north_ = 0;
  std::size_t cols_ = 0, rows_ = 0;
  std::vector<double> z_, floor_;  // upside down
  std::vector<std::uint8_t> moves_;
};

}  // namespace

int main() {
  const PointBatch truth = marrowick::lidar_points();
  PointBatch raw = truth;
  std::fill(raw.classification.begin(), raw.classification.end(), std::uint8_t{1});
  const PointCloud cloud = points_from_batch(raw, marrowick::lidar_info());
  auto classes_by = [&](const GroundFilter& f) {
    std::vector<std::uint8_t> out;
    for_each_batch(classify_ground(cloud, f), PointFields::Class, {}, [&](const PointBatch& b) {
      out.insert(out.end(), b.classification.begin(), b.classification.end());
    });
    return out;
  };
  std::vector<std::uint8_t> classes, told(truth.size());
  const double seconds = bench::seconds_of([&] { classes = classes_by({}); });
  for (std::size_t i = 0; i < told.size(); ++i) told[i] = classes[i] == kGround;
  tell("progressive morphology", seconds, truth, told);
  // The cloth falls on the same points as the morphology sees: last returns without noise.
  const std::vector<std::uint8_t> noise = classes_by({.ground = false});
  std::vector<std::uint8_t> use(truth.size());
  for (std::size_t i = 0; i < use.size(); ++i)
    use[i] = noise[i] != kLowNoise && noise[i] != kHighNoise && truth.return_number[i] >= truth.return_count[i];
  for (double cell : {0.5, 1.0, 2.0})
    for (int rigidness : {1, 2, 3}) {
      const double t = bench::seconds_of([&] {
        const Cloth::Options o{.cell = cell, .rigidness = rigidness};
        const Cloth cloth(raw, use, o);
        for (std::size_t i = 0; i < told.size(); ++i)
          told[i] = use[i] && std::abs(raw.z[i] - cloth.at(raw.x[i], raw.y[i])) <= o.near;
      });
      tell(fmt::format("cloth of {:g} m, rigidness {}", cell, rigidness), t, truth, told);
    }
}
