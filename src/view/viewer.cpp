#include "katoptra/view/viewer.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/base64.hpp"
#include "html_page.hpp"
#include "land.hpp"
#include "page_parts.hpp"
#include "page_points.hpp"

namespace katoptra {

using nlohmann::ordered_json;

namespace {

constexpr int kMostLevel = 24;
constexpr std::int64_t kMostWindowPoints = 1'500'000;

// The parts of an answer in one JSON, each by its name.
class JsonParts : public PageData {
 public:
  void bytes(const std::string& id, const std::vector<std::uint8_t>& data) override { parts_[id] = base64(data); }
  ordered_json& json() { return parts_; }

 private:
  ordered_json parts_ = ordered_json::object();
};

}  // namespace

struct SurfaceViewer::Impl {
  SurfacePage page;
  std::string html, policy;
  int level = 0;

  // Cells 2^k as wide; and how many of what is read lie under one of them.
  struct Level {
    Grid grid;
    std::int64_t below = 1;
  };
  Level at(int k) const {
    Level l{.grid = page.surfaces[0].grid};
    for (; k > 0; --k) {
      const auto half = l.grid.half();
      if (!half) break;
      l.grid = *half;
    }
    if (k > 0) {
      const std::int64_t by = std::int64_t{1} << k;
      l.grid = coarser(l.grid, by);
      l.below = by * by;
    }
    return l;
  }
  Level checked(int k, const Window& part) const {
    if (k < 0 || k > kMostLevel) throw Error(ErrorCode::BadArgument, fmt::format("there is no level {}", k), "window");
    if (part.cols > kMostWindowSide || part.rows > kMostWindowSide)
      throw Error(ErrorCode::TooLarge, fmt::format("{} x {} cells at once", part.cols, part.rows), "window");
    const Level l = at(k);
    if (part.empty() || !l.grid.frame().window().contains(part))
      throw Error(ErrorCode::BadArgument, "that lies beyond the surface", "window");
    return l;
  }
};

namespace {

// About how many points of a cloud lie in a box, by what its parts say of themselves; all where they say nothing.
double points_in(const PointCloud& cloud, const Bounds& box) {
  double n = 0;
  for (std::size_t i = 0; i < cloud.parts(); ++i) {
    const PointPart p = cloud.part(i);
    const double across = std::min(p.box.east, box.east) - std::max(p.box.west, box.west),
                 down = std::min(p.box.north, box.north) - std::max(p.box.south, box.south);
    const double whole = p.box.width() * p.box.height();
    if (p.box.empty() || !(whole > 0))
      n += static_cast<double>(p.count);
    else if (across > 0 && down > 0)
      n += static_cast<double>(p.count) * across * down / whole;
  }
  return n;
}

// The fewest points that still are about as many as can be shown.
const PointCloud& enough_for(const SurfacePage& page, const Bounds& box, std::int64_t most) {
  const PointCloud* best = &*page.points;
  for (const PointCloud& fewer : page.fewer_points)
    if (points_in(fewer, box) >= static_cast<double>(most) / 4) best = &fewer;
  return *best;
}

}  // namespace

SurfaceViewer::SurfaceViewer(SurfacePage page) : impl_(std::make_unique<Impl>()) {
  impl_->page = std::move(page);
  HtmlPage html(impl_->page.title, "view/main.js", Reaches::ItsServer);
  html.needs_three();
  // From far away fewer points will do; how many there are is told of all.
  const std::optional<PointCloud> all = impl_->page.points;
  if (all)
    impl_->page.points =
        PointCloud(enough_for(impl_->page, impl_->page.surfaces[0].grid.frame().bounds(), impl_->page.most_points));
  const bool fewer = all && impl_->page.points->info().count < all->info().count;
  const Page made = put_surfaces(html, impl_->page, Cells::PowersOfTwo);
  impl_->page.points = all;
  impl_->level = static_cast<int>(std::lround(std::log2(made.times)));
  html.json("live", {{"level", impl_->level},
                     {"cols", impl_->page.surfaces[0].grid.frame().cols()},
                     {"rows", impl_->page.surfaces[0].grid.frame().rows()},
                     {"points", impl_->page.points && (fewer || made.points < made.points_there)},
                     {"all_points", all ? all->info().count : 0}});
  impl_->html = html.html();
  impl_->policy = html.policy(true);
}
SurfaceViewer::SurfaceViewer(SurfaceViewer&&) noexcept = default;
SurfaceViewer::~SurfaceViewer() = default;

const std::string& SurfaceViewer::html() const { return impl_->html; }
const std::string& SurfaceViewer::policy() const { return impl_->policy; }
int SurfaceViewer::level() const { return impl_->level; }

std::string SurfaceViewer::window(int level, const Window& part) const {
  const Impl::Level l = impl_->checked(level, part);
  if (part.cells() * l.below > kMostCellsBelow)
    throw Error(ErrorCode::TooLarge, "too many cells lie under that part, and the surface has no overviews", "window",
                "take a smaller part, or finer cells");
  const Block b = l.grid.read(part);
  const std::vector<float> values(b.row(0), b.row(0) + part.cells());
  const Grid cells =
      grid_from_values(l.grid.frame().sub(part), values, l.grid.quantity(), l.grid.info().type, "window");
  JsonParts parts;
  ordered_json plane = plane_for_page(parts, "heights", cells, values, impl_->page.drape_steps, impl_->page.run);
  return json_for_page(
      {{"frame", frame_for_page(cells.frame())}, {"plane", std::move(plane)}, {"data", parts.json()["heights"]}});
}

std::string SurfaceViewer::points(int level, const Window& part) const {
  const Impl::Level l = impl_->checked(level, part);
  if (!impl_->page.points) return "null";
  JsonParts parts;
  const Frame frame = l.grid.frame().sub(part);
  const PagePoints p = put_points(parts, enough_for(impl_->page, frame.bounds(), kMostWindowPoints), frame,
                                  kMostWindowPoints, impl_->page.run);
  if (p.shown == 0) return "null";
  return json_for_page({{"points", p.facts}, {"data", parts.json()["points"]}});
}

}  // namespace katoptra
