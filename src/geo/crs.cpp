#include "katoptra/geo/crs.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numbers>
#include <proj.h>
#include <proj_experimental.h>
#include <vector>

#include "katoptra/base/error.hpp"

#include "base/kept.hpp"
#include "proj_handles.hpp"

namespace katoptra {
namespace {

LengthUnit length_unit_of(double factor) {
  if (std::abs(factor - 0.3048) < 1e-10) return LengthUnit::Foot;
  if (std::abs(factor - 1200.0 / 3937.0) < 1e-10) return LengthUnit::UsFoot;
  return LengthUnit::Metre;
}

struct Axis {
  double factor = 1;
  std::string unit, direction;
};

Axis first_axis(PJ_CONTEXT* ctx, const PJ* crs) {
  Axis axis;
  Pj cs(proj_crs_get_coordinate_system(ctx, crs));
  const char *unit = nullptr, *direction = nullptr;
  if (cs &&
      proj_cs_get_axis_info(ctx, cs.get(), 0, nullptr, nullptr, &direction, &axis.factor, &unit, nullptr, nullptr)) {
    axis.unit = unit ? unit : "";
    axis.direction = direction ? direction : "";
  }
  return axis;
}

int told_code(const PJ* crs) {
  const char* authority = proj_get_id_auth_name(crs, 0);
  const char* code = proj_get_id_code(crs, 0);
  return authority && code && std::string_view(authority) == "EPSG" ? std::atoi(code) : 0;
}

int likely_code(PJ_CONTEXT* ctx, const PJ* crs) {
  int* confidence = nullptr;
  PJ_OBJ_LIST* list = proj_identify(ctx, crs, "EPSG", nullptr, &confidence);
  int code = 0;
  if (list && proj_list_get_count(list) > 0 && confidence && confidence[0] >= 90) {
    Pj best(proj_list_get(ctx, list, 0));
    if (best) code = told_code(best.get());
  }
  proj_int_list_destroy(confidence);
  proj_list_destroy(list);
  return code;
}

// The code that it says, else that of the one system of the data set that it is very likely to be.
int epsg_of(PJ_CONTEXT* ctx, const PJ* crs) {
  if (int code = told_code(crs)) return code;
  static Kept<int> codes;
  const char* wkt = proj_as_wkt(ctx, crs, PJ_WKT2_2019, nullptr);
  auto find = [&](std::string_view) { return likely_code(ctx, crs); };
  return wkt ? codes.get(wkt, find) : find({});
}

}  // namespace

// ---------------------------------------------------------------------------------------------- height references

HeightReference HeightReference::ellipsoid() {
  HeightReference r;
  r.kind_ = Kind::Ellipsoid;
  r.name_ = "ellipsoid";
  return r;
}

HeightReference HeightReference::named(std::string name) {
  HeightReference r;
  r.kind_ = Kind::System;
  r.name_ = std::move(name);
  return r;
}

namespace {

std::string with_word(std::string text, std::string_view from, std::string_view to) {
  if (const auto at = text.find(from); at != text.npos) text.replace(at, from.size(), to);
  return text;
}

// The system on the same datum and in the same unit that counts upwards.
Pj upward_twin(PJ_CONTEXT* ctx, const PJ* depths, const Axis& axis) {
  Pj datum(proj_crs_get_datum(ctx, depths));
  if (!datum) datum.reset(proj_crs_get_datum_ensemble(ctx, depths));
  const char *name = proj_get_name(depths), *datum_name = datum ? proj_get_name(datum.get()) : nullptr;
  if (!datum_name) return nullptr;
  std::string up = with_word(with_word(name ? name : "unnamed", "depth", "height"), "Depth", "Height");
  if (name && up == name) up += " (as heights)";
  return Pj(proj_create_vertical_crs_ex(ctx, up.c_str(), datum_name, proj_get_id_auth_name(datum.get(), 0),
                                        proj_get_id_code(datum.get(), 0), axis.unit.c_str(), axis.factor, nullptr,
                                        nullptr, nullptr, nullptr, nullptr));
}

}  // namespace

HeightReference HeightReference::as_heights() const {
  HeightReference r = *this;
  r.depth_ = false;
  return r;
}

std::string HeightReference::text() const { return epsg_ > 0 ? fmt::format("EPSG:{}", epsg_) : name_; }

// What PROJ tells of a vertical system.
HeightReference HeightReference::described(void* context, const void* system) {
  auto* ctx = static_cast<PJ_CONTEXT*>(context);
  const auto* pj = static_cast<const PJ*>(system);
  if (const Axis own = first_axis(ctx, pj); own.direction == "down")
    if (const Pj twin = upward_twin(ctx, pj, own)) {
      HeightReference r = described(ctx, twin.get());
      if (const char* wkt = proj_as_wkt(ctx, pj, PJ_WKT2_2019, nullptr)) r.told_wkt_ = wkt;
      r.depth_ = true;
      return r;
    }
  HeightReference r;
  r.kind_ = Kind::System;
  r.name_ = proj_get_name(pj) ? proj_get_name(pj) : "unnamed";
  r.epsg_ = epsg_of(ctx, pj);
  if (const char* wkt = proj_as_wkt(ctx, pj, PJ_WKT2_2019, nullptr)) r.wkt_ = wkt;
  const Axis axis = first_axis(ctx, pj);
  r.unit_ = length_unit_of(axis.factor);
  r.depth_ = axis.direction == "down";
  return r;
}

HeightReference HeightReference::from_epsg(int code) {
  static Kept<HeightReference> kept;
  return kept.get(std::to_string(code), [&](std::string_view) { return registered(code); });
}

HeightReference HeightReference::registered(int code) {
  Context ctx = make_context();
  Pj pj(proj_create_from_database(ctx.get(), "EPSG", std::to_string(code).c_str(), PJ_CATEGORY_CRS, 0, nullptr));
  if (!pj || proj_get_type(pj.get()) != PJ_TYPE_VERTICAL_CRS)
    throw Error(ErrorCode::BadArgument, fmt::format("EPSG:{} is not a vertical reference", code), {},
                "name one such as EGM2008, EGM96, EPSG:5703 or ellipsoid");
  return described(ctx.get(), pj.get());
}

HeightReference HeightReference::parse(std::string_view text) {
  static Kept<HeightReference> kept;
  return kept.get(text, read);
}

HeightReference HeightReference::read(std::string_view text) {
  static const std::map<std::string, int, std::less<>> kNames = {{"EGM84", 5798},  {"EGM96", 5773}, {"EGM2008", 3855},
                                                                 {"NAVD88", 5703}, {"MSL", 5714},   {"MLLW", 5866},
                                                                 {"LAT", 5861}};
  if (text == "unknown" || text.empty()) return {};
  if (text == "ellipsoid") return ellipsoid();
  if (text == "chart datum") return named("chart datum");
  if (auto known = kNames.find(text); known != kNames.end()) return from_epsg(known->second).as_heights();
  if (text.starts_with("EPSG:"))
    if (auto code = parse_number(text.substr(5))) return from_epsg(static_cast<int>(*code));
  Context ctx = make_context();
  if (text.starts_with("VERT") || text.starts_with("vert")) {
    Pj pj(proj_create(ctx.get(), std::string(text).c_str()));
    if (pj && proj_get_type(pj.get()) == PJ_TYPE_VERTICAL_CRS) return described(ctx.get(), pj.get());
    if (pj && proj_get_type(pj.get()) == PJ_TYPE_BOUND_CRS) {
      Pj inner(proj_get_source_crs(ctx.get(), pj.get()));
      if (inner) return described(ctx.get(), inner.get());
    }
  }
  const PJ_TYPE type = PJ_TYPE_VERTICAL_CRS;
  PJ_OBJ_LIST* list = proj_create_from_name(ctx.get(), "EPSG", std::string(text).c_str(), &type, 1, 0, 1, nullptr);
  int code = 0;
  if (list && proj_list_get_count(list) > 0) {
    Pj first(proj_list_get(ctx.get(), list, 0));
    code = epsg_of(ctx.get(), first.get());
  }
  proj_list_destroy(list);
  // The twin of a system of depths has no entry of its own.
  if (const std::string depths = with_word(std::string(text), " height", " depth"); !code && depths != text)
    if (const HeightReference twin = parse(depths); twin.name_ == text) return twin.as_heights();
  if (!code)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a known vertical reference", text), {},
                "name one such as EGM2008, EGM96, EPSG:5703, ellipsoid or unknown");
  return from_epsg(code);
}

// ------------------------------------------------------------------------------------------------------------- Crs

struct Crs::Impl {
  std::string name, wkt, unit_name, geodetic_wkt;
  int epsg = 0;
  bool geographic = false, mercator = false;
  double unit_factor = 1, semi_major = 6378137, e2 = 0.0066943799901413165;
};

namespace {

std::shared_ptr<const Crs::Impl> describe(PJ_CONTEXT* ctx, const PJ* crs) {
  auto impl = std::make_shared<Crs::Impl>();
  impl->name = proj_get_name(crs) ? proj_get_name(crs) : "unnamed";
  if (const char* wkt = proj_as_wkt(ctx, crs, PJ_WKT2_2019, nullptr)) impl->wkt = wkt;
  impl->epsg = epsg_of(ctx, crs);
  Pj source(proj_get_type(crs) == PJ_TYPE_BOUND_CRS ? proj_get_source_crs(ctx, crs) : nullptr);
  const PJ* plain = source ? source.get() : crs;
  const PJ_TYPE type = proj_get_type(plain);
  impl->geographic = type == PJ_TYPE_GEOGRAPHIC_2D_CRS || type == PJ_TYPE_GEOGRAPHIC_3D_CRS;
  const Axis axis = first_axis(ctx, plain);
  impl->unit_factor = axis.factor > 0 ? axis.factor : 1;
  impl->unit_name = impl->geographic ? "degree" : symbol(length_unit_of(impl->unit_factor));
  if (!impl->geographic && impl->unit_name == std::string("m") && std::abs(impl->unit_factor - 1) > 1e-10)
    impl->unit_name = axis.unit;
  Pj geodetic(proj_crs_get_geodetic_crs(ctx, plain));
  if (geodetic)
    if (const char* wkt = proj_as_wkt(ctx, geodetic.get(), PJ_WKT2_2019, nullptr)) impl->geodetic_wkt = wkt;
  Pj ellipsoid(proj_get_ellipsoid(ctx, plain));
  double inverse_flattening = 0, minor = 0;
  int minor_computed = 0;
  if (ellipsoid && proj_ellipsoid_get_parameters(ctx, ellipsoid.get(), &impl->semi_major, &minor, &minor_computed,
                                                 &inverse_flattening)) {
    const double f = inverse_flattening > 0 ? 1 / inverse_flattening : 0;
    impl->e2 = f * (2 - f);
  }
  Pj operation(impl->geographic ? nullptr : proj_crs_get_coordoperation(ctx, plain));
  const char* method = nullptr;
  if (operation && proj_coordoperation_get_method_info(ctx, operation.get(), &method, nullptr, nullptr) && method) {
    const std::string_view m = method;
    impl->mercator = m.find("Mercator") != m.npos && m.find("Transverse") == m.npos && m.find("Oblique") == m.npos;
  }
  // "unknown" would read as if nobody knew where the grid lies.
  if (impl->name == "unknown") impl->name = fmt::format("unnamed, {}", method ? method : "in degrees");
  return impl;
}

[[noreturn]] void refuse_crs(std::string_view text) {
  std::string shown(text.substr(0, 60));
  throw Error(ErrorCode::BadArgument,
              fmt::format("'{}{}' is not a coordinate reference system", shown, text.size() > 60 ? "..." : ""), {},
              "give a code such as EPSG:32725 or EPSG:32725+3855, or WKT");
}

}  // namespace

Crs Crs::parse(std::string_view text) {
  static Kept<Crs> kept;
  return kept.get(text, read);
}

Crs Crs::read(std::string_view text) {
  if (text.empty()) refuse_crs(text);
  Context ctx = make_context();
  std::string told(text);
  // A projection is taken for the system that stands on it.
  if ((text.starts_with("+proj=") || text.starts_with("proj=") || text.starts_with("+init=")) &&
      text.find("type=crs") == text.npos)
    told += " +type=crs";
  Pj pj(proj_create(ctx.get(), told.c_str()));
  if (!pj || !proj_is_crs(pj.get())) refuse_crs(text);
  HeightReference heights;
  if (proj_get_type(pj.get()) == PJ_TYPE_COMPOUND_CRS) {
    Pj vertical(proj_crs_get_sub_crs(ctx.get(), pj.get(), 1));
    if (vertical) heights = HeightReference::described(ctx.get(), vertical.get());
    pj.reset(proj_crs_get_sub_crs(ctx.get(), pj.get(), 0));
    if (!pj) refuse_crs(text);
  }
  Pj cs(proj_crs_get_coordinate_system(ctx.get(), pj.get()));
  if (cs && proj_cs_get_axis_count(ctx.get(), cs.get()) == 3) {
    heights = HeightReference::ellipsoid();
    Pj flat(proj_crs_demote_to_2D(ctx.get(), nullptr, pj.get()));
    if (flat) pj = std::move(flat);
  }
  const PJ_TYPE type = proj_get_type(pj.get());
  if (type == PJ_TYPE_VERTICAL_CRS || type == PJ_TYPE_GEOCENTRIC_CRS || type == PJ_TYPE_TEMPORAL_CRS)
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' has no horizontal part", text), {},
                "give a horizontal system, such as EPSG:32725");
  Crs crs(describe(ctx.get(), pj.get()));
  crs.heights_ = heights;
  return crs;
}

Crs Crs::utm_for(double longitude, double latitude) {
  if (!(std::abs(latitude) <= 84.5) || !std::isfinite(longitude))
    throw Error(ErrorCode::BadArgument, fmt::format("no UTM zone at latitude {:.2f}", latitude), {},
                "name a polar system with --crs");
  const double wrapped = longitude - 360 * std::floor((longitude + 180) / 360);
  const int zone = std::clamp(static_cast<int>(std::floor((wrapped + 180) / 6)) + 1, 1, 60);
  return parse(fmt::format("EPSG:{}", (latitude < 0 ? 32700 : 32600) + zone));
}

Crs Crs::wgs84() { return parse("EPSG:4326"); }

namespace {
const Crs::Impl& none() {
  static const Crs::Impl impl{.name = "none", .wkt = {}, .unit_name = "cell", .geodetic_wkt = {}};
  return impl;
}
}  // namespace

const std::string& Crs::name() const { return (impl_ ? *impl_ : none()).name; }
int Crs::epsg() const { return impl_ ? impl_->epsg : 0; }
std::string Crs::code() const { return epsg() ? fmt::format("EPSG:{}", epsg()) : std::string(); }
std::string Crs::label() const { return epsg() ? code() : name(); }
const std::string& Crs::wkt() const { return (impl_ ? *impl_ : none()).wkt; }
bool Crs::is_geographic() const { return impl_ && impl_->geographic; }
bool Crs::is_mercator() const { return impl_ && impl_->mercator; }
double Crs::unit_factor() const { return impl_ ? impl_->unit_factor : 1; }
const std::string& Crs::unit_name() const { return (impl_ ? *impl_ : none()).unit_name; }
double Crs::semi_major() const { return (impl_ ? *impl_ : none()).semi_major; }
double Crs::eccentricity2() const { return (impl_ ? *impl_ : none()).e2; }
const HeightReference& Crs::heights() const { return heights_; }

Crs Crs::with_heights(const HeightReference& heights) const {
  Crs c = *this;
  c.heights_ = heights;
  return c;
}

std::string Crs::file_wkt() const {
  if (!impl_) return {};
  static Kept<std::string> kept;
  return kept.get(impl_->wkt + heights_.wkt(), [&](std::string_view) { return for_files(); });
}

std::string Crs::for_files() const {
  Context ctx = make_context();
  Pj whole(proj_create(ctx.get(), impl_->wkt.c_str()));
  if (whole && !heights_.wkt().empty()) {
    Pj vertical(proj_create(ctx.get(), heights_.wkt().c_str()));
    const std::string both = impl_->name + " + " + heights_.name();
    Pj compound(vertical ? proj_create_compound_crs(ctx.get(), both.c_str(), whole.get(), vertical.get()) : nullptr);
    if (compound) whole = std::move(compound);
  }
  constexpr auto kFirstEdition = static_cast<PJ_WKT_TYPE>(4);
  const char* text = whole ? proj_as_wkt(ctx.get(), whole.get(), kFirstEdition, nullptr) : nullptr;
  // The first edition has no words for some: what does not come back the same is told in the second.
  const Pj back(text ? proj_create(ctx.get(), text) : nullptr);
  if (text && !(back && proj_is_equivalent_to_with_ctx(ctx.get(), whole.get(), back.get(),
                                                       PJ_COMP_EQUIVALENT_EXCEPT_AXIS_ORDER_GEOGCRS)))
    text = nullptr;
  if (whole && !text) text = proj_as_wkt(ctx.get(), whole.get(), PJ_WKT2_2019, nullptr);
  return text ? text : "";
}

std::string Crs::proj_string() const {
  if (!impl_) return {};
  Context ctx = make_context();
  Pj pj(proj_create(ctx.get(), impl_->wkt.c_str()));
  const char* text = pj ? proj_as_proj_string(ctx.get(), pj.get(), PJ_PROJ_4, nullptr) : nullptr;
  return text ? text : "";
}

Crs Crs::geodetic() const { return impl_ && !impl_->geographic ? parse(impl_->geodetic_wkt) : *this; }

bool Crs::same_place(const Crs& other) const {
  if (impl_ == other.impl_) return true;
  if (!impl_ || !other.impl_) return false;
  if (impl_->wkt == other.impl_->wkt || (impl_->epsg && impl_->epsg == other.impl_->epsg)) return true;
  Context ctx = make_context();
  Pj a(proj_create(ctx.get(), impl_->wkt.c_str())), b(proj_create(ctx.get(), other.impl_->wkt.c_str()));
  return a && b &&
         proj_is_equivalent_to_with_ctx(ctx.get(), a.get(), b.get(), PJ_COMP_EQUIVALENT_EXCEPT_AXIS_ORDER_GEOGCRS);
}

// ------------------------------------------------------------------------------------------------------- Transform

struct Transform::Impl {
  std::string from, to;
  bool identity = false, ballpark = false, to_globe = false;
  PipelinePool pool;

  Pipeline make() const {
    Pipeline p{make_context(), nullptr};
    PJ_CONTEXT* ctx = p.context.get();
    Pj raw(proj_create_crs_to_crs(ctx, from.c_str(), to.c_str(), nullptr));
    if (raw) p.pj.reset(proj_normalize_for_visualization(ctx, raw.get()));
    if (!p.pj)
      throw Error(ErrorCode::MissingResource, "no way is known between the two coordinate reference systems",
                  "transform", "check both systems, or install PROJ's grids (Debian: proj-data)");
    return p;
  }
  void run(std::span<Point> points, PJ_DIRECTION direction) {
    if (identity || points.empty()) return;
    Pipeline p = pool.take([&] { return make(); });
    proj_trans_generic(p.pj.get(), direction, &points[0].x, sizeof(Point), points.size(), &points[0].y, sizeof(Point),
                       points.size(), nullptr, 0, 0, nullptr, 0, 0);
    pool.give(std::move(p));
    for (Point& q : points)
      if (!std::isfinite(q.x) || !std::isfinite(q.y)) q = {std::nan(""), std::nan("")};
  }
};

Transform::Transform(const Crs& from, const Crs& to) {
  if (!from || !to)
    throw Error(ErrorCode::BadArgument, "a coordinate reference system is missing", "transform", "name it with --crs");
  // The same two serve every tile of a study: their pipelines are lent from one to the next. Never taken down: at the
  // end of the program PROJ's own parts may be gone before them.
  static auto& kept = *new Kept<std::shared_ptr<Impl>>(64);
  impl_ = kept.get(from.wkt() + '\n' + to.wkt(), [&](std::string_view) { return open(from, to); });
}

std::shared_ptr<Transform::Impl> Transform::open(const Crs& from, const Crs& to) {
  auto impl = std::make_shared<Impl>();
  impl->identity = from.same_place(to);
  impl->to_globe = to.is_geographic();
  if (impl->identity) return impl;
  impl->from = from.wkt();
  impl->to = to.wkt();
  Pipeline first = impl->make();
  PJ_CONTEXT* ctx = first.context.get();
  PJ* used = first.pj.get();
  impl->ballpark =
      proj_get_type(used) != PJ_TYPE_UNKNOWN && proj_coordoperation_has_ballpark_transformation(ctx, used) == 1;
  impl->pool.give(std::move(first));
  return impl;
}

std::string proj_version() { return proj_info().version; }

bool Transform::is_identity() const { return impl_->identity; }
bool Transform::is_ballpark() const { return impl_->ballpark; }
bool Transform::to_globe() const { return impl_->to_globe; }
void Transform::forward(std::span<Point> points) const { impl_->run(points, PJ_FWD); }
void Transform::inverse(std::span<Point> points) const { impl_->run(points, PJ_INV); }
Point Transform::forward(Point p) const {
  forward(std::span(&p, 1));
  return p;
}
Point Transform::inverse(Point p) const {
  inverse(std::span(&p, 1));
  return p;
}

namespace {

// A ring with the places its points go to. Edges are cut into pieces of at most `step`, and each piece again while the
// place of its middle is off the chord by more than kChord of the outline's size (kDeepest times at most): straight
// edges stay few, and a parallel carried around a pole becomes a circle.
class CarriedRing {
 public:
  CarriedRing(const Ring& ring, double step, const Transform& transform) : transform_(transform) {
    for (std::size_t i = 0; i + 1 < ring.size(); ++i) {
      const Point a = ring[i], b = ring[i + 1];
      const int n = std::clamp(static_cast<int>(std::ceil(std::hypot(b.x - a.x, b.y - a.y) / step)), 1, 64);
      for (int k = 0; k < n; ++k)
        from_.push_back(k == 0 ? a : Point{a.x + (b.x - a.x) * k / n, a.y + (b.y - a.y) * k / n});
    }
    if (!ring.empty()) from_.push_back(ring.back());
    to_ = from_;
    transform_.forward(to_);
    for (int depth = 0; depth < kDeepest && refine(); ++depth) {
    }
  }

  // The places; longitudes go on counting.
  Ring places() const {
    Ring r = to_;
    std::erase_if(r, [](Point p) { return std::isnan(p.x); });
    if (transform_.to_globe())
      for (std::size_t i = 1; i < r.size(); ++i) r[i].x = near(r[i].x, r[i - 1].x);
    return r;
  }

 private:
  static constexpr double kChord = 1e-6;
  static constexpr int kDeepest = 6;

  static double near(double x, double middle) { return x - 360 * std::round((x - middle) / 360); }

  bool refine() {
    std::vector<Point> middles;
    for (std::size_t i = 0; i + 1 < from_.size(); ++i)
      middles.push_back({(from_[i].x + from_[i + 1].x) / 2, (from_[i].y + from_[i + 1].y) / 2});
    std::vector<Point> places = middles;
    transform_.forward(places);
    Bounds box;
    for (Point p : to_)
      if (!std::isnan(p.x)) box.include(p);
    const double most = kChord * std::max(box.width(), box.height());
    Ring from, to;
    for (std::size_t i = 0; i < from_.size(); ++i) {
      from.push_back(from_[i]);
      to.push_back(to_[i]);
      if (i + 1 < from_.size() && is_bent(to_[i], places[i], to_[i + 1], most)) {
        from.push_back(middles[i]);
        to.push_back(places[i]);
      }
    }
    const bool changed = from.size() > from_.size();
    from_ = std::move(from);
    to_ = std::move(to);
    return changed;
  }
  bool is_bent(Point a, Point m, Point b, double most) const {
    if (std::isnan(a.x + m.x + b.x)) return std::isnan(a.x) != std::isnan(b.x);  // the rim of the projection
    if (transform_.to_globe()) {
      m.x = near(m.x, a.x);
      b.x = near(b.x, m.x);
    }
    return std::hypot((a.x + b.x) / 2 - m.x, (a.y + b.y) / 2 - m.y) > most;
  }

  const Transform& transform_;
  Ring from_, to_;
};

// A ring of longitudes and latitudes that goes once around the globe has a pole in it: it is led there and back along
// the meridian on which it ends, so that the inside is inside on a plane of longitudes and latitudes, too.
void lead_over_the_pole(Ring& ring, const Ring& source, const Transform& transform) {
  if (ring.size() < 3) return;
  const Point first = ring.front(), last = ring.back();
  const double closing = last.x + std::remainder(first.x - last.x, 360.0);
  if (std::abs(closing - first.x) < 180) return;  // it comes back to where it began
  double pole = first.y > 0 ? 90 : -90;
  for (double latitude : {90.0, -90.0}) {
    const Point p = transform.inverse({0, latitude});
    if (!std::isnan(p.x) && contains(MultiPolygon{{source, {}}}, p)) pole = latitude;
  }
  ring.push_back({closing, first.y});
  ring.push_back({closing, pole});
  ring.push_back({first.x, pole});
}

}  // namespace

MultiPolygon transformed(const MultiPolygon& shape, const Transform& transform) {
  if (transform.is_identity()) return shape;
  const Bounds b = bounds_of(shape);
  const double step = std::max({b.width(), b.height(), 1e-12}) / 32;
  auto carry = [&](const Ring& ring) {
    Ring r = CarriedRing(ring, step, transform).places();
    if (transform.to_globe()) lead_over_the_pole(r, ring, transform);
    if (!r.empty() && !(r.front() == r.back())) r.push_back(r.front());
    return r;
  };
  MultiPolygon out;
  for (const Polygon& p : shape) {
    Polygon q{carry(p.outer), {}};
    for (const Ring& hole : p.holes) q.holes.push_back(carry(hole));
    if (q.outer.size() >= 4) out.push_back(std::move(q));
  }
  return out;
}

Bounds transformed(const Bounds& box, const Transform& transform) {
  if (transform.is_identity() || box.empty()) return box;
  std::vector<Point> points;
  for (int i = 0; i <= 32; ++i)
    for (int j = 0; j <= 32; ++j)
      points.push_back({box.west + box.width() * i / 32, box.south + box.height() * j / 32});
  transform.forward(points);
  Bounds out, beyond;  // the same with western longitudes counted on from the east
  for (Point p : points)
    if (!std::isnan(p.x)) {
      out.include(p);
      beyond.include(Point{p.x < 0 ? p.x + 360 : p.x, p.y});
    }
  if (!transform.to_globe() || out.width() <= 180) return out;
  for (double pole : {-90.0, 90.0}) {
    const Point p = transform.inverse({0, pole});
    if (!std::isnan(p.x) && box.contains(p)) {
      out.include(Point{-180, pole});
      out.include(Point{180, pole});
      return out;
    }
  }
  return beyond.width() < out.width() ? beyond : out;
}

// ----------------------------------------------------------------------------------------------------- GroundRuler

GroundRuler::GroundRuler(const Crs& crs) : crs_(crs) {
  if (crs && !crs.is_geographic()) to_globe_ = std::make_shared<Transform>(crs, crs.geodetic());
}

namespace {

struct Vector {
  double x = 0, y = 0, z = 0;
};
double length(Vector v) { return std::sqrt(v.x * v.x + v.y * v.y + v.z * v.z); }

// The straight way through space from one place on the ellipsoid to one some metres away, which is right at the poles
// and across the antimeridian, where differences of longitudes are not.
Vector chord(double a, double e2, Point from, Point to) {
  constexpr double kRadian = std::numbers::pi / 180;
  auto place = [&](Point p) {
    const double s = std::sin(p.y * kRadian), c = std::cos(p.y * kRadian), n = a / std::sqrt(1 - e2 * s * s);
    return Vector{n * c * std::cos(p.x * kRadian), n * c * std::sin(p.x * kRadian), n * (1 - e2) * s};
  };
  const Vector u = place(from), v = place(to);
  return {v.x - u.x, v.y - u.y, v.z - u.z};
}

// Two metres across, and two along, around each point.
std::vector<Point> probes(std::span<const Point> points, double h) {
  std::vector<Point> out;
  out.reserve(points.size() * 4);
  for (Point p : points) {
    out.push_back({p.x - h, p.y});
    out.push_back({p.x + h, p.y});
    out.push_back({p.x, p.y - h});
    out.push_back({p.x, p.y + h});
  }
  return out;
}

// Metres per radian along the parallel and along the meridian of the ellipsoid.
GroundScale per_radian(double a, double e2, double latitude) {
  const double s = std::sin(latitude), w2 = 1 - e2 * s * s, w = std::sqrt(w2);
  return {a / w * std::max(std::cos(latitude), 1e-9), a * (1 - e2) / (w2 * w)};
}

}  // namespace

GroundScale GroundRuler::at(Point p) const {
  GroundScale s;
  at(std::span<const Point>(&p, 1), std::span<GroundScale>(&s, 1));
  return s;
}

void GroundRuler::at(std::span<const Point> points, std::span<GroundScale> out) const {
  constexpr double kRadian = std::numbers::pi / 180;
  if (!crs_) {
    for (GroundScale& s : out) s = {1, 1};
    return;
  }
  const double a = crs_.semi_major(), e2 = crs_.eccentricity2();
  if (!to_globe_) {
    for (std::size_t i = 0; i < points.size(); ++i) {
      const GroundScale r = per_radian(a, e2, points[i].y * kRadian);
      out[i] = {r.x * kRadian, r.y * kRadian};
    }
    return;
  }
  // Central differences over two metres: the curvature of any map projection is negligible there, rounding is 1e-9.
  const double h = 1.0 / crs_.unit_factor();
  std::vector<Point> probe = probes(points, h);
  to_globe_->forward(probe);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const Point* q = &probe[i * 4];
    out[i] = {length(chord(a, e2, q[0], q[1])) / (2 * h), length(chord(a, e2, q[2], q[3])) / (2 * h)};
  }
}

void GroundRuler::areas(std::span<const Point> points, std::span<double> out) const {
  if (!crs_) {
    std::fill(out.begin(), out.end(), 1.0);
    return;
  }
  if (!to_globe_) {
    std::vector<GroundScale> scales(points.size());
    at(points, scales);
    for (std::size_t i = 0; i < points.size(); ++i) out[i] = scales[i].x * scales[i].y;
    return;
  }
  const double a = crs_.semi_major(), e2 = crs_.eccentricity2(), h = 1.0 / crs_.unit_factor();
  std::vector<Point> probe = probes(points, h);
  to_globe_->forward(probe);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const Point* q = &probe[i * 4];
    const Vector u = chord(a, e2, q[0], q[1]), v = chord(a, e2, q[2], q[3]);
    out[i] = length({u.y * v.z - u.z * v.y, u.z * v.x - u.x * v.z, u.x * v.y - u.y * v.x}) / (4 * h * h);
  }
}

double GroundRuler::zone(double south, double north) const {
  const double e2 = crs_.eccentricity2(), b2 = crs_.semi_major() * crs_.semi_major() * (1 - e2), e = std::sqrt(e2);
  constexpr double kRadian = std::numbers::pi / 180;
  auto up_to = [&](double latitude) {
    const double s = std::sin(std::clamp(latitude, -90.0, 90.0) * kRadian);
    return e > 0 ? s / (1 - e2 * s * s) + std::atanh(e * s) / e : 2 * s;
  };
  return b2 / 2 * (up_to(north) - up_to(south)) * kRadian;
}

Length GroundRuler::distance(Point a, Point b) const {
  const GroundScale s = at(Point{(a.x + b.x) / 2, (a.y + b.y) / 2});
  return Length::metres(std::hypot((b.x - a.x) * s.x, (b.y - a.y) * s.y));
}

}  // namespace katoptra
