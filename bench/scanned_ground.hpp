// Points as a scanner delivers them, for benchmarks of points.
#pragma once
#include <cmath>
#include <filesystem>
#include <memory>
#include <random>
#include <vector>

#include "katoptra/formats/point_file.hpp"
#include "katoptra/points/points.hpp"

#include "bench.hpp"

namespace bench {

using namespace katoptra;

// A sheet as a scanner delivers it: 4 points a square metre, noise of 3 cm, four of five pulses with one return.
class ScannedGround : public PointSource {
 public:
  ScannedGround(double west, double south, double edge) : west_(west), south_(south), edge_(edge) {
    info_.name = "scanned";
    info_.crs = Crs::parse("EPSG:32725");
    info_.quantity.heights = HeightReference::parse("EGM2008");
    info_.quantity.unit_known = true;
    info_.record_format = 6;
    info_.time = PointTime::Standard;
    PointLattice lattice;
    lattice.step[0] = lattice.step[1] = lattice.step[2] = 0.01;
    lattice.origin[0] = 600000;
    lattice.origin[1] = 5800000;
    info_.lattice = lattice;
    info_.bounds = {west, south, west + edge, south + edge};
    lines_ = static_cast<std::size_t>(edge / 0.5);
    info_.count = lines_ * lines_;
    info_.fields = PointFields::Intensity | PointFields::Return | PointFields::Class | PointFields::Flags |
                   PointFields::Angle | PointFields::Source | PointFields::Time | PointFields::User;
  }
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return (lines_ + 19) / 20; }
  PointPart part(std::size_t i) const override {
    return {std::min<std::size_t>(20, lines_ - 20 * i) * lines_, {}, 20 * i * lines_};
  }
  void read(std::size_t i, PointFields fields, PointBatch& b) const override {
    const auto n = static_cast<std::size_t>(part(i).count);
    b.resize(n, info_.fields & fields, 0);
    std::mt19937_64 random(i + static_cast<std::size_t>(west_));
    for (std::size_t k = 0; k < n; ++k) {
      const std::size_t line = 20 * i + k / lines_, at = line % 2 ? lines_ - 1 - k % lines_ : k % lines_;
      const std::uint64_t r = random();
      const double x = west_ + (static_cast<double>(at) + 0.1 + 0.8 * static_cast<double>(r & 1023) / 1024) * 0.5,
                   y = south_ +
                       (static_cast<double>(line) + 0.1 + 0.8 * static_cast<double>(r >> 10 & 1023) / 1024) * 0.5;
      b.x[k] = std::round(x * 100) / 100;
      b.y[k] = std::round(y * 100) / 100;
      const double noise = (static_cast<double>(r >> 20 & 255) + static_cast<double>(r >> 28 & 255) - 255) / 255 * 0.06;
      b.z[k] = std::round((120 + 40 * std::sin(x / 210) + 30 * std::cos(y / 170) + noise) * 100) / 100;
      auto set = [&](auto& column, auto value) {
        if (!column.empty())
          column[k] = static_cast<typename std::remove_reference_t<decltype(column)>::value_type>(value);
      };
      const bool two = (r >> 40 & 7) == 0;
      set(b.intensity, 300 + (r >> 44 & 127));
      set(b.return_count, two ? 2 : 1);
      set(b.return_number, two ? 1 + (r >> 43 & 1) : 1);
      set(b.classification, (r >> 50 & 15) == 0 ? 5 : 2);
      set(b.flags, (line % 2 ? kScanForward : 0) | (k % lines_ == lines_ - 1 ? kEdgeOfLine : 0));
      set(b.angle, static_cast<int>(at * 4000 / lines_) - 2000);
      set(b.source, 7);
      set(b.user, 0);
      set(b.time, 3e8 + static_cast<double>(line) * 0.01 + static_cast<double>(k % lines_) * 4e-6);
    }
  }

 private:
  PointInfo info_;
  double west_, south_, edge_;
  std::size_t lines_;
};

// Of n points in sixteen sheets.
inline double sheet_edge(std::size_t n) { return 0.5 * std::floor(std::sqrt(static_cast<double>(n) / 16)); }

// Sixteen LAZ files, written where they are not there yet.
inline PointCloud scanned_sheets(std::size_t n, const std::filesystem::path& folder) {
  const double edge = sheet_edge(n);
  std::vector<PointCloud> sheets;
  for (int i = 0; i < 16; ++i) {
    const std::filesystem::path path = folder / fmt::format("sheet{}_{}.laz", i, n);
    if (!std::filesystem::exists(path))
      write_points(PointCloud(std::make_shared<ScannedGround>(660000 + edge * (i % 4), 5830000 + edge * (i / 4), edge)),
                   path);
    sheets.push_back(open_points(path));
  }
  return merged(sheets);
}

}  // namespace bench
