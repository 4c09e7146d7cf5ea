#include "census.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace katoptra {
namespace {

struct CensusPart {
  std::shared_ptr<StatisticsPart> statistics;
  std::vector<RegionRun> voids;
  std::vector<std::size_t> row_end;
  std::int64_t known = 0;
};

void add_voids(const float* row, std::int64_t cols, std::vector<RegionRun>& out) {
  for (std::int64_t c = 0; c < cols; ++c) {
    if (!std::isnan(row[c])) continue;
    const std::int64_t first = c;
    while (c < cols && std::isnan(row[c])) ++c;
    out.push_back({static_cast<std::int32_t>(first), static_cast<std::int32_t>(c), 0});
  }
}

// What files commonly write where nothing was measured.
bool is_customary_void(double v) {
  for (double known : {-9999.0, -99999.0, -999.0, -9999.9, -32768.0, -32767.0, 9999.0, 99999.0, 32767.0, 65535.0, -1e6,
                       1e6, -99.0, -9.0, 0.0})
    if (v == known) return true;
  return std::abs(v) > 1e7;
}

}  // namespace

Census::Census(Scene& scene, const Area* area)
    : Detector(scene),
      gathering_(scene.grid()),
      voids_(1, Regions::Touching::EdgesAndCorners, [this](const Region& r) { return count_void(r); }) {
  const Frame& frame = scene.frame();
  if (!area || !frame.crs()) return;
  wanted_shape_ = area->in(frame.crs()).shape();
  wanted_window_ = frame.window_of_centres(bounds_of(*wanted_shape_));
  if (wanted_window_.empty()) return;
  mask_.emplace(*wanted_shape_, frame.sub(wanted_window_));
  for (std::int64_t r = 0; r < wanted_window_.rows; ++r)
    for (auto [a, b] : mask_->spans(r)) wanted_ += b - a;
}

std::shared_ptr<void> Census::scan(const Block& block, const Window& band) const {
  auto part = std::make_shared<CensusPart>();
  part->statistics = gathering_.part();
  for (std::int64_t r = 0; r < band.rows; ++r) {
    const float* row = block.row(r + kHalo);
    const std::int64_t known = StatisticsGathering::add_row(*part->statistics, row, band.cols, band.row + r);
    if (known < band.cols) add_voids(row, band.cols, part->voids);
    part->row_end.push_back(part->voids.size());
    const std::int64_t wanted_row = band.row + r - wanted_window_.row;
    if (!mask_ || wanted_row < 0 || wanted_row >= wanted_window_.rows) continue;
    for (auto [a, b] : mask_->spans(wanted_row))
      for (std::int64_t c = std::max<std::int64_t>(0, a + wanted_window_.col);
           c < std::min(band.cols, b + wanted_window_.col); ++c)
        part->known += !std::isnan(row[c]);
  }
  return part;
}

void Census::merge(void* p) {
  const CensusPart& part = *static_cast<const CensusPart*>(p);
  gathering_.merge(*part.statistics);
  std::size_t begin = 0;
  for (std::size_t end : part.row_end) {
    voids_.add_row(std::span(part.voids).subspan(begin, end - begin), row_++);
    begin = end;
  }
  known_ += part.known;
}

void Census::pack(void* p, Packer& to) const {
  CensusPart& part = *static_cast<CensusPart*>(p);
  StatisticsGathering::pack(*part.statistics, to);
  FieldPacker{to}(part.voids, part.row_end, part.known);
}

std::shared_ptr<void> Census::unpack(Unpacker& from) const {
  auto part = std::make_shared<CensusPart>();
  part->statistics = gathering_.unpack(from);
  FieldUnpacker{from}(part->voids, part->row_end, part->known);
  return part;
}

void Census::judge() {
  statistics_ = gathering_.result();
  judge_voids();
  if (mask_) judge_coverage();
  judge_sign();
}

// Those at the edge are counted apart and not kept.
bool Census::count_void(const Region& v) {
  const Frame& f = scene_.frame();
  if (v.box.col == 0 || v.box.row == 0 || v.box.col + v.box.cols == f.cols() || v.box.row + v.box.rows == f.rows()) {
    edge_cells_ += v.cells;
    return false;
  }
  inside_cells_ += v.cells;
  small_ += v.cells < 10;
  middle_ += v.cells >= 10 && v.cells < 1000;
  return true;
}

void Census::judge_voids() {
  if (statistics_.voids == 0) return;
  const std::vector<Region> inside = voids_.finish();
  if (edge_cells_ > 0)
    scene_.add("edge-voids", Severity::Note, fmt::format("{} void cells reach the edge of the grid", edge_cells_), "");
  if (inside.empty()) return;
  const std::int64_t n = voids_.count();
  const bool fails = static_cast<double>(inside[0].cells) >= scene_.limits().void_cells;
  std::string sizes;
  if (n > 1)
    sizes = fmt::format(" ({} below 10 cells, {} below 1000, {} larger)", small_, middle_, n - small_ - middle_);
  Finding& f = scene_.add("voids", fails ? Severity::Failure : Severity::Note,
                          fmt::format("{} inside with {} cells{}; the largest has {} cells at {}", counted(n, "void"),
                                      inside_cells_, sizes, inside[0].cells, scene_.at(inside[0].box)),
                          "close them with fill, or join a second source");
  f.measure = static_cast<double>(inside_cells_);
  f.unit = "cells";
  for (std::size_t i = 0; i < std::min(inside.size(), kMostPlaces); ++i)
    f.place.push_back(scene_.place_of(inside[i].box));
}

void Census::judge_coverage() {
  const double fraction = wanted_ ? static_cast<double>(known_) / static_cast<double>(wanted_) : 0;
  const bool fails = fraction < scene_.limits().coverage;
  Finding& f =
      scene_.add("coverage", fails ? Severity::Failure : Severity::Note,
                 fmt::format("{:.2f} % of the area has values ({} of {} cells)", 100 * fraction, known_, wanted_),
                 fails ? "add tiles for the missing part, or fill its voids" : "");
  f.measure = fraction;
  if (known_ < wanted_) f.place = overlay(*wanted_shape_, {to_polygon(scene_.frame().bounds())}, Overlay::Difference);
}

void Census::judge_sign() {
  if (scene_.grid().quantity().surface != SurfaceKind::SeaFloor || !(statistics_.percentiles[1] > 0)) return;
  scene_.add("sign", Severity::Failure,
             fmt::format("is a sea floor, yet 95 % of it lies above zero (median {:+.2f} {}): depths were "
                         "taken for heights",
                         statistics_.percentiles[3], scene_.unit()),
             "read it with --depths", statistics_.percentiles[3]);
}

std::optional<double> Census::undeclared_void() const {
  return undeclared_void_in(statistics_, static_cast<double>(gathering_.at_lowest()),
                            static_cast<double>(gathering_.at_highest()), scene_.metre());
}

std::optional<double> undeclared_void_in(const Statistics& s, double at_lowest, double at_highest, double metre) {
  const auto n = static_cast<double>(s.cells - s.voids);
  if (n < 100) return std::nullopt;
  for (const bool low : {true, false}) {
    const double v = low ? s.lowest : s.highest, k = low ? at_lowest : at_highest;
    if (k >= n) continue;
    // The others, without the cells of that value.
    const double q0 = s.sketch.quantile((low ? k + 0.25 : n - 1.25 - k) / (n - 1)),
                 p1 = s.sketch.quantile((low ? k + 0.01 * (n - k) : 0.01 * (n - k)) / n),
                 p99 = s.sketch.quantile((low ? k + 0.99 * (n - k) : 0.99 * (n - k)) / n);
    const double gap = std::abs(q0 - v), range = std::max(p99 - p1, 1 / metre);
    // A customary void value needs a plain gap, any other one a wide gap and several cells.
    const bool customary = is_customary_void(v) && gap > 1.0 * range && gap > 20 / metre && k >= 2;
    if (customary || std::abs(v) > 1e7 || (k >= 10 && gap > 5 * range && gap > 100 / metre)) return v;
  }
  return std::nullopt;
}

double cells_at_end(const Statistics& s, bool lowest) {
  const auto n = static_cast<double>(s.cells - s.voids);
  if (n < 2) return n;
  const double v = lowest ? s.lowest : s.highest, near = 1e-3 * (s.highest - s.lowest);
  // The last share of cells, from that end, whose quantile is still that value.
  double inside = 0, beyond = 1;
  for (int i = 0; i < 48; ++i) {
    const double share = (inside + beyond) / 2;
    (std::abs(s.sketch.quantile(lowest ? share : 1 - share) - v) <= near ? inside : beyond) = share;
  }
  return std::floor(inside * (n - 1)) + 1;
}

}  // namespace katoptra
