// A detector looks for one kind of flaw while the grid streams by: it scans a band on any thread, its findings of that
// band are merged in order, and at the end it judges the whole.
#pragma once
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "katoptra/check/finding.hpp"
#include "katoptra/check/thresholds.hpp"
#include "katoptra/grid/grid.hpp"

#include "base/packed.hpp"

namespace katoptra {

inline constexpr std::int64_t kHalo = 8;         // rows that a scanned block has above and below its band
inline constexpr std::size_t kMostPlaces = 100;  // polygons of one finding

// What all detectors of a grid share.
class Scene {
 public:
  Scene(const Grid& grid, const Thresholds& thresholds, std::vector<Finding>& findings);
  const Grid& grid() const { return grid_; }
  const Frame& frame() const { return grid_.frame(); }
  const Thresholds& limits() const { return limits_; }
  double metre() const { return metre_; }  // metres in one unit of the values
  double in_unit(Length l) const { return l.metres() / metre_; }
  const std::string& unit() const { return unit_; }

  Finding& add(const std::string& code, Severity severity, std::string message, std::string advice);
  // With a measure in the unit of the values.
  Finding& add(const std::string& code, Severity severity, std::string message, std::string advice, double measure);
  Polygon place_of(const Window& w) const;
  std::string at(Point p) const;
  std::string at(const Window& w) const;  // its middle
  const std::vector<Finding>& findings() const { return findings_; }

 private:
  const Grid& grid_;
  const Thresholds& limits_;
  std::vector<Finding>& findings_;
  double metre_;
  std::string unit_;
};

class Detector {
 public:
  explicit Detector(Scene& scene) : scene_(scene) {}
  virtual ~Detector() = default;
  Detector(const Detector&) = delete;
  Detector& operator=(const Detector&) = delete;
  // Row r of the band is row r + kHalo of the block; all columns.
  virtual std::shared_ptr<void> scan(const Block& block, const Window& band) const = 0;
  virtual void merge(void* part) = 0;
  virtual void judge() = 0;
  // Findings of a band on their way between processes.
  virtual void pack(void* part, Packer& to) const = 0;
  virtual std::shared_ptr<void> unpack(Unpacker& from) const = 0;

 protected:
  Scene& scene_;
};

// Whose findings of a band are a Part that names its fields (base/packed.hpp).
template <class Part>
class DetectorOf : public Detector {
 public:
  using Detector::Detector;
  void pack(void* part, Packer& to) const final { FieldPacker{to}(*static_cast<Part*>(part)); }
  std::shared_ptr<void> unpack(Unpacker& from) const final {
    auto part = std::make_shared<Part>();
    FieldUnpacker{from}(*part);
    return part;
  }
};

std::unique_ptr<Detector> make_spike_detector(Scene& scene);
std::unique_ptr<Detector> make_line_detector(Scene& scene);
std::unique_ptr<Detector> make_oblique_detector(Scene& scene);
std::unique_ptr<Detector> make_repeat_detector(Scene& scene);
std::unique_ptr<Detector> make_terrace_detector(Scene& scene);
std::unique_ptr<Detector> make_patch_detector(Scene& scene);
std::unique_ptr<Detector> make_seam_detector(Scene& scene);

// "cell" or "cells"
inline std::string counted(std::int64_t n, const std::string& word) {
  return std::to_string(n) + " " + word + (n == 1 ? "" : "s");
}

}  // namespace katoptra
