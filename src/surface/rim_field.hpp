// The inverse distance mean of a rim, for the cells of a void.
#pragma once
#include <array>
#include <map>
#include <utility>
#include <vector>

#include "katoptra/surface/fill.hpp"

#include "base/clones.hpp"

namespace katoptra {

// Rim cells as columns of numbers, padded to whole lanes with points of no weight.
struct Rim {
  std::vector<float> x, y, z, n;  // n: how many cells a point stands for
  void add(float px, float py, float pz, float count) {
    x.push_back(px);
    y.push_back(py);
    z.push_back(pz);
    n.push_back(count);
  }
};

inline constexpr std::int64_t kCluster = 16;
inline constexpr float kNear = 64;
inline constexpr std::size_t kLanes = 8;

// Sums of weights and weighted values over points in fixed lanes: the same bits on every machine.
KATOPTRA_CLONES inline void gather(const float* x, const float* y, const float* z, const float* n, std::size_t count,
                                   float px, float py, float* weight, float* sum) {
  float w[kLanes] = {}, s[kLanes] = {};
  for (std::size_t i = 0; i < count; i += kLanes)
    for (std::size_t k = 0; k < kLanes; ++k) {
      const float dx = x[i + k] - px, dy = y[i + k] - py, q = n[i + k] / (dx * dx + dy * dy);
      w[k] += q;
      s[k] += q * z[i + k];
    }
  for (std::size_t k = 0; k < kLanes; ++k) {
    *weight += w[k];
    *sum += s[k];
  }
}

// The rim of one void, made when its first cell is asked for. Heights are kept relative to their mean, so that sums of
// many weights in single precision lose nothing that matters (below 1e-6 of the range of the rim).
class RimField {
 public:
  // `aspect`: the width of a cell over its height; columns are counted in heights of a cell.
  RimField(std::vector<std::array<float, 3>> cells, float aspect) : aspect_(aspect) {
    for (auto& c : cells) c[0] *= aspect;
    double mean = 0;
    for (const auto& c : cells) mean += static_cast<double>(c[2]);
    base_ = cells.empty() ? 0 : static_cast<float>(mean / static_cast<double>(cells.size()));
    for (auto& c : cells) c[2] -= base_;
    if (cells.size() <= kRimCells) {
      for (const auto& c : cells) all_.add(c[0], c[1], c[2], 1);
      pad(all_);
      return;
    }
    std::map<std::pair<std::int64_t, std::int64_t>, std::vector<std::array<float, 3>>> groups;
    for (const auto& c : cells)
      groups[{static_cast<std::int64_t>(c[1]) / kCluster, static_cast<std::int64_t>(c[0]) / kCluster}].push_back(c);
    for (auto& [key, members] : groups) {
      Rim rim;
      float x = 0, y = 0, z = 0;
      for (const auto& c : members) {
        rim.add(c[0], c[1], c[2], 1);
        x += c[0];
        y += c[1];
        z += c[2];
      }
      pad(rim);
      const auto n = static_cast<float>(members.size());
      clusters_.add(x / n, y / n, z / n, n);
      members_.push_back(std::move(rim));
    }
  }

  float at(float col, float py) const {
    const float px = col * aspect_;
    float weight = 0, sum = 0;
    if (members_.empty()) {
      gather(all_.x.data(), all_.y.data(), all_.z.data(), all_.n.data(), all_.x.size(), px, py, &weight, &sum);
    } else {
      for (std::size_t i = 0; i < members_.size(); ++i) {
        const float dx = clusters_.x[i] - px, dy = clusters_.y[i] - py, d2 = dx * dx + dy * dy;
        if (d2 > kNear * kNear) {
          weight += clusters_.n[i] / d2;
          sum += clusters_.n[i] / d2 * clusters_.z[i];
        } else {
          const Rim& m = members_[i];
          gather(m.x.data(), m.y.data(), m.z.data(), m.n.data(), m.x.size(), px, py, &weight, &sum);
        }
      }
    }
    return base_ + sum / weight;
  }

 private:
  static void pad(Rim& rim) {
    while (rim.x.size() % kLanes) rim.add(-1e6f, -1e6f, 0, 0);
  }
  float aspect_ = 1, base_ = 0;
  Rim all_, clusters_;
  std::vector<Rim> members_;
};

}  // namespace katoptra
