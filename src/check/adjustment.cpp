#include "adjustment.hpp"

#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>

#include "moments.hpp"

namespace katoptra {
namespace {

constexpr double kLeastRest = 0.1;     // in units of sigma
constexpr double kLeastWeight = 1e-6;  // what keeps a body joined to the others when all its overlaps stand off
constexpr int kSumRounds = 15, kMostRounds = 60;
constexpr double kRest = 1e-6;  // metres

using Matrix = Eigen::SparseMatrix<double>;

class Adjusting {
 public:
  Adjusting(std::vector<AdjustedBody>& bodies, std::vector<Observation>& observations)
      : bodies_(bodies), observations_(observations) {
    for (const AdjustedBody& b : bodies) {
      for (std::size_t k = 0; k < 3; ++k) index_.push_back(b.free[k] ? n_++ : -1);
    }
  }

  double run() {
    for (Observation& o : observations_) o.weight = 1;
    for (AdjustedBody& b : bodies_) b.value = b.error = {};
    if (n_ == 0) return measure_rests();
    double scale = 1;
    for (int round = 0; round < kMostRounds; ++round) {
      const double moved = solve();
      scale = std::max(1.0, measure_rests());
      if (round > kSumRounds && moved < kRest) break;
      weigh(scale, round < kSumRounds);
    }
    for (std::size_t i = 0; i < index_.size(); ++i)
      if (index_[i] >= 0) {
        Eigen::VectorXd unit = Eigen::VectorXd::Zero(n_);
        unit[index_[i]] = 1;
        bodies_[i / 3].error[i % 3] = scale * std::sqrt(std::max(0.0, solver_.solve(unit)[index_[i]]));
      }
    return scale;
  }

 private:
  // Unknowns of an observation with their factors.
  template <class Use>
  void each_unknown(const Observation& o, const Use& use) const {
    for (std::size_t k = 0; k < 3; ++k) {
      if (o.first != Observation::kNone && index_[3 * o.first + k] >= 0) use(index_[3 * o.first + k], -o.at_first[k]);
      if (o.second != Observation::kNone && index_[3 * o.second + k] >= 0)
        use(index_[3 * o.second + k], o.at_second[k]);
    }
  }

  double solve() {
    std::vector<Eigen::Triplet<double>> entries;
    Eigen::VectorXd right = Eigen::VectorXd::Zero(n_);
    for (const Observation& o : observations_) {
      const double w = o.weight / (o.sigma * o.sigma);
      each_unknown(o, [&](int i, double a) {
        right[i] += w * a * o.value;
        each_unknown(o, [&](int j, double b) {
          if (j <= i) entries.emplace_back(i, j, w * a * b);
        });
      });
    }
    for (std::size_t i = 0; i < index_.size(); ++i)
      if (index_[i] >= 0 && i % 3 > 0) entries.emplace_back(index_[i], index_[i], 1 / (kLikelySlope * kLikelySlope));
    Matrix normal(n_, n_);
    normal.setFromTriplets(entries.begin(), entries.end());
    if (!analysed_) solver_.analyzePattern(normal);
    analysed_ = true;
    solver_.factorize(normal);
    const Eigen::VectorXd x = solver_.solve(right);
    double moved = 0;
    for (std::size_t i = 0; i < index_.size(); ++i)
      if (index_[i] >= 0) {
        double& v = bodies_[i / 3].value[i % 3];
        moved = std::max(moved, std::abs(x[index_[i]] - v));
        v = x[index_[i]];
      }
    return moved;
  }

  // The robust spread of what is left, in units of sigma.
  double measure_rests() {
    std::vector<double> all;
    for (Observation& o : observations_) {
      o.rest = o.value;
      for (std::size_t k = 0; k < 3; ++k) {
        if (o.first != Observation::kNone) o.rest += bodies_[o.first].value[k] * o.at_first[k];
        if (o.second != Observation::kNone) o.rest -= bodies_[o.second].value[k] * o.at_second[k];
      }
      all.push_back(o.rest / o.sigma);
    }
    return all.empty() ? 1 : robust_deviation(all, 0);
  }

  // The least sum of rests, which needs no scale and is moved by no minority; from there on bisquare weights.
  void weigh(double scale, bool by_sum) {
    for (Observation& o : observations_) {
      const double t = std::abs(o.rest) / (o.sigma * scale);
      if (by_sum)
        o.weight = 1 / std::max(kLeastRest, std::abs(o.rest) / o.sigma);
      else
        o.weight = t < kBisquare ? std::max(kLeastWeight, std::pow(1 - std::pow(t / kBisquare, 2), 2)) : kLeastWeight;
    }
  }

  std::vector<AdjustedBody>& bodies_;
  std::vector<Observation>& observations_;
  std::vector<int> index_;  // of each body's three unknowns; -1 where not free
  int n_ = 0;
  bool analysed_ = false;
  Eigen::SimplicialLDLT<Matrix> solver_;
};

}  // namespace

double adjust(std::vector<AdjustedBody>& bodies, std::vector<Observation>& observations) {
  return Adjusting(bodies, observations).run();
}

}  // namespace katoptra
