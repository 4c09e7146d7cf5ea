#include "katoptra/check/check.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "check/detectors/census.hpp"
#include "check/detectors/detector.hpp"
#include "check/detectors/streams.hpp"
#include "check/detectors/sureness.hpp"
#include "grid/shared_bands.hpp"

namespace katoptra {
namespace {

constexpr int kMostUndeclared = 3;

void judge_references(Scene& scene) {
  const Grid& grid = scene.grid();
  const Crs& crs = grid.frame().crs();
  const bool heights = grid.quantity().kind == QuantityKind::Height;
  const GroundSpacing s = ground_spacing(grid.frame());
  if (!crs)
    scene.add("no-crs", Severity::Failure, "has no coordinate reference system: nobody can say where it lies",
              "find out from its source and tell it with --crs");
  if (heights && !grid.quantity().heights.known())
    scene.add("no-heights", Severity::Warning, "does not say from where its heights are counted",
              "find out, and tell it with --heights");
  if (heights && !grid.quantity().unit_known)
    scene.add("no-unit", Severity::Warning, "does not say in which unit its heights are: metres are taken",
              "tell it with --unit");
  if (crs.is_geographic())
    scene.add("degrees", Severity::Note,
              fmt::format("is in degrees: a cell is {:.2f} m wide and {:.2f} m high on the ground here", s.x.metres(),
                          s.y.metres()),
              "reproject before measuring lengths, areas or volumes outside Katoptra");
  if (!crs.is_mercator()) return;
  const double stretch = grid.frame().cell().y * crs.unit_factor() / s.y.metres();
  Finding& f = scene.add(
      "mercator", Severity::Warning,
      fmt::format("is in a Mercator projection: lengths in its coordinates are {:.3f} times those on the ground here",
                  stretch),
      "reproject before measuring");
  f.measure = stretch;
}

// One streaming pass; false when a value turned out to be a void that nobody declared.
bool scan(const Grid& grid, const CheckOptions& options, bool last, CheckReport& report) {
  std::vector<Finding> found;
  Scene scene(grid, options.thresholds, found);
  const bool heights = grid.quantity().kind == QuantityKind::Height, seams = heights && grid.info().sources.size() > 1;
  Census census(scene, options.area);
  std::vector<std::unique_ptr<Detector>> others;
  if (heights) {
    others.push_back(make_spike_detector(scene));
    if (seams) others.push_back(make_seam_detector(scene));
    others.push_back(make_line_detector(scene));
    others.push_back(make_repeat_detector(scene));
    others.push_back(make_terrace_detector(scene));
    others.push_back(make_patch_detector(scene));
    others.push_back(make_oblique_detector(scene));
  }
  using Parts = std::vector<std::shared_ptr<void>>;
  std::vector<Detector*> all{&census};
  for (const auto& d : others) all.push_back(d.get());
  share_bands(grid, seams ? Planes::ValuesAndOrigin : Planes::Values, kHalo, options.run,
              {.map = [&](const Block& block, const Window& band) -> std::shared_ptr<void> {
                 auto parts = std::make_shared<Parts>();
                 for (const Detector* d : all) parts->push_back(d->scan(block, band));
                 return parts;
               },
               .reduce =
                   [&](const std::shared_ptr<void>& p) {
                     const Parts& parts = *static_cast<const Parts*>(p.get());
                     for (std::size_t i = 0; i < all.size(); ++i) all[i]->merge(parts[i].get());
                   },
               .pack =
                   [&](const std::shared_ptr<void>& p, Packer& to) {
                     const Parts& parts = *static_cast<const Parts*>(p.get());
                     for (std::size_t i = 0; i < all.size(); ++i) all[i]->pack(parts[i].get(), to);
                   },
               .unpack = [&](Unpacker& from) -> std::shared_ptr<void> {
                 auto parts = std::make_shared<Parts>();
                 for (const Detector* d : all) parts->push_back(d->unpack(from));
                 return parts;
               }});
  census.judge();
  report.statistics = census.statistics();
  if (heights && !last)
    if (const auto v = census.undeclared_void()) {
      const bool low = *v == report.statistics.lowest;
      Scene(grid, options.thresholds, report.findings)
          .add("undeclared-void", Severity::Failure,
               fmt::format("the value {:g} is far from all others (first at {}): it stands for nothing, "
                           "but the file does not declare it",
                           *v, scene.at(low ? report.statistics.lowest_at : report.statistics.highest_at)),
               fmt::format("read it with --from-void {:g}", *v), *v);
      return false;
    }
  if (report.statistics.cells > report.statistics.voids)
    for (const auto& d : others) d->judge();
  report.findings.insert(report.findings.end(), std::make_move_iterator(found.begin()),
                         std::make_move_iterator(found.end()));
  return true;
}

}  // namespace

bool CheckReport::failed() const {
  return std::any_of(findings.begin(), findings.end(),
                     [](const Finding& f) { return f.severity == Severity::Failure; });
}

CheckReport check(const Grid& grid, const CheckOptions& options) {
  CheckReport report;
  Scene scene(grid, options.thresholds, report.findings);
  judge_references(scene);
  Grid g = grid;
  for (int i = 0; !scan(g, options, i == kMostUndeclared, report); ++i)
    g = with_void(g, *report.findings.back().measure);
  if (grid.carries_uncertainty() && grid.quantity().kind == QuantityKind::Height) {
    Scene sureness(g, options.thresholds, report.findings);
    judge_sureness(sureness, report.statistics.highest - report.statistics.lowest, options.thresholds.too_sure,
                   options.run);
  }
  if (options.streams && grid.quantity().kind == QuantityKind::Height) {
    Scene streams(g, options.thresholds, report.findings);
    judge_streams(streams, *options.streams, options.run);
  }
  std::stable_sort(report.findings.begin(), report.findings.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
  return report;
}

}  // namespace katoptra
