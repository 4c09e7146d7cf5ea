#include "katoptra/geo/vertical.hpp"

#include <cmath>
#include <fmt/format.h>
#include <proj_experimental.h>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

#include "proj_handles.hpp"

namespace katoptra {
namespace {

struct DestroyList {
  void operator()(PJ_OBJ_LIST* l) const { proj_list_destroy(l); }
};
struct DestroyFactory {
  void operator()(PJ_OPERATION_FACTORY_CONTEXT* f) const { proj_operation_factory_context_destroy(f); }
};

// The three-dimensional system of a place and a height.
Pj system_of(PJ_CONTEXT* ctx, const Crs& horizontal, const std::string& vertical_wkt) {
  Pj flat(proj_create(ctx, horizontal.wkt().c_str()));
  if (!flat) return nullptr;
  if (vertical_wkt.empty()) return Pj(proj_crs_promote_to_3D(ctx, nullptr, flat.get()));
  Pj vertical(proj_create(ctx, vertical_wkt.c_str()));
  return Pj(vertical ? proj_create_compound_crs(ctx, "both", flat.get(), vertical.get()) : nullptr);
}

// Names of the grids that an operation needs and PROJ does not find.
std::string missing_grids(PJ_CONTEXT* ctx, const PJ* operation) {
  std::string missing;
  for (int i = 0; i < proj_coordoperation_get_grid_used_count(ctx, operation); ++i) {
    const char* name = nullptr;
    int available = 0;
    if (proj_coordoperation_get_grid_used(ctx, operation, i, &name, nullptr, nullptr, nullptr, nullptr, nullptr,
                                          &available) &&
        !available && name)
      missing += (missing.empty() ? "" : " and ") + std::string(name);
  }
  return missing;
}

}  // namespace

struct VerticalTransform::Impl {
  Crs horizontal;
  HeightReference from, to;
  Bounds area;  // longitude and latitude; empty: everywhere
  std::string description;
  std::optional<Length> stated;
  int chosen = -1;  // among the operations that PROJ lists
  PipelinePool pool;

  // PROJ knows its operations by the registered system, also where that counts downwards; empty for an ellipsoid.
  static const std::string& known_by(const HeightReference& r) { return r.told_wkt_.empty() ? r.wkt_ : r.told_wkt_; }

  std::unique_ptr<PJ_OBJ_LIST, DestroyList> operations(PJ_CONTEXT* ctx) const {
    Pj a = system_of(ctx, horizontal, known_by(from)), b = system_of(ctx, horizontal, known_by(to));
    if (!a || !b) return nullptr;
    std::unique_ptr<PJ_OPERATION_FACTORY_CONTEXT, DestroyFactory> factory(
        proj_create_operation_factory_context(ctx, nullptr));
    proj_operation_factory_context_set_spatial_criterion(ctx, factory.get(),
                                                         PROJ_SPATIAL_CRITERION_PARTIAL_INTERSECTION);
    // In the order of their quality, whether or not their grids are there: a missing one shall be named.
    proj_operation_factory_context_set_grid_availability_use(ctx, factory.get(), PROJ_GRID_AVAILABILITY_IGNORED);
    proj_operation_factory_context_set_allow_ballpark_transformations(ctx, factory.get(), 0);
    if (!area.empty())
      proj_operation_factory_context_set_area_of_interest(ctx, factory.get(), area.west, area.south, area.east,
                                                          area.north);
    return std::unique_ptr<PJ_OBJ_LIST, DestroyList>(proj_create_operations(ctx, a.get(), b.get(), factory.get()));
  }

  void choose() {
    Context ctx = make_context();
    const auto list = operations(ctx.get());
    std::string first_missing;
    for (int i = 0; list && i < proj_list_get_count(list.get()); ++i) {
      Pj op(proj_list_get(ctx.get(), list.get(), i));
      if (!op || proj_coordoperation_has_ballpark_transformation(ctx.get(), op.get())) continue;
      const std::string missing = missing_grids(ctx.get(), op.get());
      if (!missing.empty()) {
        if (first_missing.empty()) first_missing = missing;
        continue;
      }
      chosen = i;
      const char* name = proj_get_name(op.get());
      const double accuracy = proj_coordoperation_get_accuracy(ctx.get(), op.get());
      description = name ? name : "an operation without a name";
      if (accuracy >= 0) stated = Length::metres(accuracy);
      if (accuracy >= 0) description += fmt::format(", accurate to {:g} m", accuracy);
      if (!first_missing.empty())
        description += fmt::format("; a better one needs {}, which PROJ does not find", first_missing);
      return;
    }
    if (!first_missing.empty())
      throw Error(ErrorCode::MissingResource,
                  fmt::format("from {} to {} needs the grid {}, which PROJ does not find", from.name(), to.name(),
                              first_missing),
                  "heights",
                  fmt::format("put it into one of PROJ's folders ({}), or give the separation with --shift",
                              proj_info().searchpath));
    throw Error(ErrorCode::MissingResource,
                fmt::format("no way is known from {} to {} at this place", from.name(), to.name()), "heights",
                "give the separation with --shift, as a length or a surface");
  }

  Pipeline make() const {
    Pipeline p{make_context(), nullptr};
    const auto list = operations(p.context.get());
    Pj op(list ? proj_list_get(p.context.get(), list.get(), chosen) : nullptr);
    if (op) p.pj.reset(proj_normalize_for_visualization(p.context.get(), op.get()));
    if (!p.pj)
      throw Error(ErrorCode::MissingResource,
                  fmt::format("the way from {} to {} cannot be opened", from.name(), to.name()), "heights",
                  "check PROJ's installation (Debian: proj-data)");
    return p;
  }
};

VerticalTransform::VerticalTransform(const Crs& horizontal, const HeightReference& from, const HeightReference& to,
                                     const Bounds& area)
    : impl_(std::make_shared<Impl>()) {
  impl_->horizontal = horizontal;
  impl_->from = from;
  impl_->to = to;
  if (from == to) return;
  for (const HeightReference* r : {&from, &to})
    if (!r->known() || (!r->is_ellipsoid() && r->wkt().empty()))
      throw Error(ErrorCode::Refused,
                  r->known() ? fmt::format("nothing but its name is known of the vertical reference '{}'", r->name())
                             : std::string("the vertical reference of the heights is not known"),
                  "heights",
                  r->known() ? "give the separation with --shift, as a length or a surface"
                             : "say what it is with --from-heights");
  if (!horizontal)
    throw Error(ErrorCode::Refused, "heights cannot be converted where the place is not known", "heights",
                "give the grid a CRS first");
  if (!area.empty()) {
    impl_->area = transformed(area, Transform(horizontal, Crs::wgs84()));
    if (impl_->area.width() > 300) impl_->area = {};
  }
  impl_->choose();
}

bool VerticalTransform::is_identity() const { return impl_->chosen < 0; }
const std::string& VerticalTransform::description() const { return impl_->description; }
std::optional<Length> VerticalTransform::accuracy() const { return impl_->stated; }

void VerticalTransform::shifts(std::span<const Point> places, std::span<double> metres) const {
  if (is_identity()) {
    std::fill(metres.begin(), metres.end(), 0.0);
    return;
  }
  std::vector<Point> p(places.begin(), places.end());
  std::fill(metres.begin(), metres.end(), 0.0);
  Pipeline pipeline = impl_->pool.take([&] { return impl_->make(); });
  proj_trans_generic(pipeline.pj.get(), PJ_FWD, &p[0].x, sizeof(Point), p.size(), &p[0].y, sizeof(Point), p.size(),
                     metres.data(), sizeof(double), p.size(), nullptr, 0, 0);
  impl_->pool.give(std::move(pipeline));
  const double factor = (impl_->to.told_wkt_.empty() ? 1 : -1) * metres_per(impl_->to.unit());
  for (std::size_t i = 0; i < p.size(); ++i)
    metres[i] = std::isfinite(metres[i]) && std::isfinite(p[i].x) ? metres[i] * factor : std::nan("");
}

}  // namespace katoptra
