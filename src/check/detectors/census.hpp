// What is there at all: statistics, voids, cover of the area.
#pragma once
#include <optional>

#include "katoptra/check/statistics.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/surface/clip.hpp"

#include "detector.hpp"
#include "regions.hpp"

namespace katoptra {

// Rows of a band as the statistics of a grid take them.
struct StatisticsPart;
class StatisticsGathering {
 public:
  explicit StatisticsGathering(const Grid& grid);
  ~StatisticsGathering();
  std::shared_ptr<StatisticsPart> part() const;
  // How many cells of the row have a value.
  static std::int64_t add_row(StatisticsPart& part, const float* row, std::int64_t cols, std::int64_t r);
  void merge(const StatisticsPart& part);
  static void pack(StatisticsPart& part, Packer& to);
  std::shared_ptr<StatisticsPart> unpack(Unpacker& from) const;
  Statistics result();
  // How many cells have exactly the lowest (highest) value.
  std::int64_t at_lowest() const;
  std::int64_t at_highest() const;

 private:
  Frame frame_;
  std::unique_ptr<StatisticsPart> all_;
};

class Census final : public Detector {
 public:
  Census(Scene& scene, const Area* area);
  std::shared_ptr<void> scan(const Block& block, const Window& band) const override;
  void merge(void* part) override;
  void judge() override;
  void pack(void* part, Packer& to) const override;
  std::shared_ptr<void> unpack(Unpacker& from) const override;
  const Statistics& statistics() const { return statistics_; }
  // A value that can only stand for nothing.
  std::optional<double> undeclared_void() const;

 private:
  bool count_void(const Region& v);
  void judge_voids();
  void judge_coverage();
  void judge_sign();

  StatisticsGathering gathering_;
  Regions voids_;
  Statistics statistics_;
  std::optional<MultiPolygon> wanted_shape_;
  Window wanted_window_;
  std::optional<CellMask> mask_;
  std::int64_t wanted_ = 0, known_ = 0, row_ = 0;
  std::int64_t inside_cells_ = 0, edge_cells_ = 0, small_ = 0, middle_ = 0;
};

// The value at an end of the range that can only stand for nothing: of so many cells, and so far from all others.
// `metre`: metres in one unit of the values.
std::optional<double> undeclared_void_in(const Statistics& s, double at_lowest, double at_highest, double metre);
// How many cells have the lowest (or highest) value, as far as the sketch tells.
double cells_at_end(const Statistics& s, bool lowest);

}  // namespace katoptra
