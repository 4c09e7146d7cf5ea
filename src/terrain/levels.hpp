// The levels that lines are drawn at, numbered: `step` k of a height is the number of the highest level at or below it,
// so the levels between two heights are those after the lower's step, up to the higher's.
#pragma once
#include <cstdint>
#include <limits>
#include <vector>

namespace katoptra {

inline constexpr std::int32_t kVoidStep = std::numeric_limits<std::int32_t>::min();

class Levels {
 public:
  // Multiples of `above` from the base upwards, of `below` downwards.
  static Levels every(double base, double above, double below) { return {base, above, below, {}}; }
  // These alone, ascending.
  static Levels listed(std::vector<double> values) { return {0, 1, 1, std::move(values)}; }

  // Only the levels of the steps [first, end): a step outside is taken for the nearest inside, so that nothing crosses
  // another level.
  Levels within(std::int32_t first, std::int32_t end) const {
    Levels l = *this;
    l.least_ = first - 1;
    l.most_ = end - 1;
    l.is_whole_ = false;
    return l;
  }

  bool are_listed() const { return !listed_.empty(); }
  double base() const { return base_; }
  double above() const { return above_; }
  double below() const { return below_; }
  // Below the first of a list there is none, above the last none either.
  double level(std::int32_t k) const {
    if (are_listed())
      return k < 0                                           ? -std::numeric_limits<double>::infinity()
             : k < static_cast<std::int32_t>(listed_.size()) ? listed_[static_cast<std::size_t>(k)]
                                                             : std::numeric_limits<double>::infinity();
    return base_ + k * (k < 0 ? below_ : above_);
  }
  // The step of each value, kVoidStep of a void; false when one is more than 2^30 intervals away.
  bool steps(const float* row, std::int64_t n, std::int32_t* out) const;

 private:
  Levels(double base, double above, double below, std::vector<double> values)
      : base_(base), above_(above), below_(below), listed_(std::move(values)) {}

  double base_, above_, below_;
  std::vector<double> listed_;
  bool is_whole_ = true;
  std::int32_t least_ = 0, most_ = 0;
};

}  // namespace katoptra
