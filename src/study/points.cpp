#include "points.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <mutex>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/point_file.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/points/ground.hpp"
#include "katoptra/points/select.hpp"
#include "katoptra/points/soundings.hpp"

namespace katoptra {
namespace {

PointCloud brought(const StudyPoints& p, const HeightReference& heights) {
  std::vector<PointCloud> sheets;
  for (const auto& file : p.files) {
    OpenOptions open = p.open;
    if (p.shift.given()) open.heights.reset();
    PointCloud cloud = open_points(file, {.open = open, .area = nullptr, .spacing = {}});
    if (p.shift.by)
      cloud = shifted_heights(cloud, *p.shift.by, heights);
    else if (p.shift.separation)
      cloud = shifted_heights(cloud, *p.shift.separation, heights);
    else if (heights.known())
      cloud = to_heights(cloud, heights);
    sheets.push_back(cloud);
  }
  return merged(sheets);
}

PointCloud chosen(const StudyPoints& p, const PointCloud& all, const RunOptions& run) {
  PointCloud cloud = all;
  if (p.find_ground) cloud = classify_ground(cloud, {.water = p.water, .run = run});
  PointSelection s{.area = nullptr, .classes = p.classes, .drop_noise = true, .without_withheld = true};
  if (p.classes.empty() && has(cloud.info().fields, PointFields::Class)) {
    if (p.find_ground || has_class(cloud, 2, run)) s.classes = {2};
  }
  return select(cloud, s);
}

// Gridding takes a pass over the points, which a plan alone does not need.
class LateSurface : public GridSource {
 public:
  LateSurface(StudyPoints p, PointCloud cloud, const RunOptions& run)
      : points_(std::move(p)), cloud_(std::move(cloud)), run_(run) {
    run_.silent = true;  // it is asked whether to stop, in the middle of what reports its own progress
    points_.gridding.run = run_;
    info_.frame = frame_for_points(cloud_.info(), points_.gridding);
    info_.quantity = cloud_.info().quantity;
    info_.quantity.surface = points_.gridding.surface;
    info_.name = points_.name;
    info_.sources = sources_of(cloud_.info(), ground_spacing(info_.frame).y);
    if (points_.own_uncertainty) info_.error_reach = points_.uncertainty.reach.value_or(ground_spacing(info_.frame).y);
    const std::string method = name_of(points_.gridding.methods.front());
    for (SourceRecord& r : info_.sources) {
      r.name = info_.sources.size() == 1 ? fmt::format("{} ({} points, {})", points_.name, cloud_.info().count, method)
                                         : fmt::format("{}/{} ({})", points_.name, r.name, method);
      if (!points_.survey.empty()) r.survey = points_.survey;
      if (!points_.date.empty()) {
        r.date = points_.date;
        r.date_guessed = false;
      }
    }
  }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return points_.own_uncertainty; }
  void read(const BlockView& out) const override {
    std::call_once(once_, [&] {
      PointGridding g = points_.gridding;
      g.frame = info_.frame;
      const PointCloud cloud = chosen(points_, cloud_, run_);
      made_ = grid_points(cloud, g).grids.front();
      if (points_.own_uncertainty) made_ = with_point_uncertainty(made_, cloud, run_);
    });
    made_.read_into(out);
  }

 private:
  StudyPoints points_;
  PointCloud cloud_;
  RunOptions run_;
  GridInfo info_;
  mutable std::once_flag once_;
  mutable Grid made_;
};

}  // namespace

Grid surface_of(const StudyPoints& points, const HeightReference& heights, const RunOptions& run) {
  const PointCloud cloud = brought(points, heights);
  if (!cloud.info().crs)
    throw Error(ErrorCode::Refused, "has no coordinate reference system", points.name,
                "say it with crs = \"...\" in its [[points]]");
  Grid made(std::make_shared<LateSurface>(points, cloud, run));
  if (!points.uncertainty.text.empty()) {
    UncertaintyModel model = parse_uncertainty(points.uncertainty.text);
    if (model.times == 1) model.times = points.uncertainty.times();
    made = with_uncertainty(made, model);
  }
  return points.uncertainty.reach ? with_error_reach(made, points.uncertainty.reach) : made;
}

}  // namespace katoptra
