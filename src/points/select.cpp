// Selections and moves of points, made when a part is read: nothing is copied beforehand. A selection asks the source
// for the fields that it needs besides those wanted, marks the points to keep and closes the columns over the gaps.
// Parts whose box cannot hold a wanted point are left out when the selection is made. Points moved to another CRS
// stand on a new lattice of integers, of a millimetre or of a billionth of a degree.
#include "katoptra/points/select.hpp"

#include <algorithm>
#include <atomic>
#include <bitset>
#include <cmath>
#include <fmt/format.h>
#include <mutex>
#include <unordered_map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/geo/vertical.hpp"

#include "area_index.hpp"
#include "derived.hpp"
#include "sampler.hpp"

namespace katoptra {
namespace {

using F = PointFields;

F without(F set, F drop) { return static_cast<F>(static_cast<std::uint32_t>(set) & ~static_cast<std::uint32_t>(drop)); }

class SelectedPoints : public Derived {
 public:
  SelectedPoints(const PointCloud& in, const PointSelection& s) : Derived(in), s_(s) {
    info_.exact = false;
    const PointInfo& info = in.info();
    if (s.area) {
      if (!info.crs)
        throw Error(ErrorCode::Refused, "has no coordinate reference system, so an area cannot be cut from it",
                    info.name, "say which it has with --crs");
      MultiPolygon shape = s.area->in(info.crs).shape();
      if (info.crs.is_geographic()) {
        shape = joined_across_antimeridian(shape);
        if (!info.bounds.empty()) shape = told_around(shape, info.bounds.centre().x);
        middle_ = bounds_of(shape).centre().x;
      }
      area_.emplace(shape);
      // Points may be told a turn away from the area: then their box says nothing of it.
      if (!middle_) info_.bounds = meet(info_.bounds, bounds_of(shape));
    }
    s_.area = nullptr;
    if (!s.box.empty()) info_.bounds = meet(info_.bounds, s.box);
    for (int c : s.classes) keep_.set(static_cast<std::size_t>(c & 255));
    if (s.classes.empty()) keep_.set();
    for (int c : s.without_classes) keep_.reset(static_cast<std::size_t>(c & 255));
    if (s.drop_noise) keep_.reset(7).reset(18);
    need(!s.classes.empty() || !s.without_classes.empty(), F::Class, "classes");
    need(s.returns != Returns::All, F::Return, "returns");
    need(!s.lines.empty(), F::Source, "flight lines");
    need(std::isfinite(s.from_time) || std::isfinite(s.to_time), F::Time, "times");
    if (!keep_.all() && has(info.fields, F::Class)) needed_ = needed_ | F::Class;
    if (s.without_withheld && has(info.fields, F::Flags)) needed_ = needed_ | F::Flags;
    if (s.every == 0)
      throw Error(ErrorCode::BadArgument, "of every 0 points none can be kept", info.name, "give 1 or more");
    info_.lowest = std::max(info_.lowest, s.lowest);
    info_.highest = std::min(info_.highest, s.highest);
    // Parts that cannot hold a point are left out for good.
    for (std::size_t i = 0; i < in.parts(); ++i) {
      const PointPart p = in.part(i);
      if (!p.box.empty() && ((area_ && !may_touch_area(p.box)) || (!s.box.empty() && !s.box.intersects(p.box))))
        continue;
      parts_.push_back(i);
    }
  }
  std::size_t parts() const override { return parts_.size(); }
  PointPart part(std::size_t i) const override { return in_.part(parts_[i]); }

  void read(std::size_t i, F fields, PointBatch& out) const override {
    const PointPart p = part(i);
    read_with(parts_[i], fields, needed_, out);
    const std::size_t n = out.size();
    std::vector<std::uint8_t> marks(n, 1);
    auto drop_unless = [&](auto&& holds) {
      for (std::size_t k = 0; k < n; ++k)
        marks[k] = static_cast<std::uint8_t>(marks[k] & static_cast<std::uint8_t>(holds(k)));
    };
    if (s_.every > 1) drop_unless([&](std::size_t k) { return (p.first + k) % s_.every == 0; });
    if (!out.classification.empty() && !keep_.all())
      drop_unless([&](std::size_t k) { return keep_[out.classification[k]]; });
    if (s_.without_withheld && !out.flags.empty())
      drop_unless([&](std::size_t k) { return !(out.flags[k] & kWithheld); });
    if (std::isfinite(s_.lowest) || std::isfinite(s_.highest))
      drop_unless([&](std::size_t k) { return out.z[k] >= s_.lowest && out.z[k] <= s_.highest; });
    if (s_.returns != Returns::All)
      drop_unless([&](std::size_t k) { return is_wanted(out.return_number[k], out.return_count[k]); });
    if (!s_.lines.empty())
      drop_unless(
          [&](std::size_t k) { return std::find(s_.lines.begin(), s_.lines.end(), out.source[k]) != s_.lines.end(); });
    if (std::isfinite(s_.from_time) || std::isfinite(s_.to_time))
      drop_unless([&](std::size_t k) { return out.time[k] >= s_.from_time && out.time[k] <= s_.to_time; });
    if (!s_.box.empty()) drop_unless([&](std::size_t k) { return s_.box.contains({out.x[k], out.y[k]}); });
    if (area_ && (p.box.empty() || !area_->contains(p.box)))
      for (std::size_t k = 0; k < n; ++k)
        if (marks[k]) marks[k] = area_->contains(Point{told_near_area(out.x[k]), out.y[k]});
    out.keep(marks);
    drop_unasked(fields, out);
  }

 private:
  double told_near_area(double x) const { return middle_ ? x - 360 * std::round((x - *middle_) / 360) : x; }
  // A box of longitudes may touch it in any of its turns.
  bool may_touch_area(const Bounds& box) const {
    if (!middle_) return area_->may_touch(box);
    for (double turn : {-360.0, 0.0, 360.0})
      if (area_->may_touch({box.west + turn, box.south, box.east + turn, box.north})) return true;
    return false;
  }
  static Bounds meet(const Bounds& a, const Bounds& b) {
    return {std::max(a.west, b.west), std::max(a.south, b.south), std::min(a.east, b.east), std::min(a.north, b.north)};
  }
  void need(bool asked, F field, const char* name) {
    if (!asked) return;
    if (!has(in_.info().fields, field))
      throw Error(ErrorCode::BadArgument, fmt::format("its points have no {}", name), in_.info().name,
                  "leave that condition out");
    needed_ = needed_ | field;
  }
  bool is_wanted(int number, int of) const {
    switch (s_.returns) {
      case Returns::First:
        return number <= 1;
      case Returns::Last:
        return number >= of;
      case Returns::Only:
        return of <= 1;
      case Returns::Between:
        return number > 1 && number < of;
      default:
        return true;
    }
  }
  PointSelection s_;
  std::optional<AreaIndex> area_;
  std::optional<double> middle_;  // of the area, when it is in longitudes
  std::bitset<256> keep_;
  F needed_ = F::None;
  std::vector<std::size_t> parts_;
};

class MergedPoints : public PointSource {
 public:
  explicit MergedPoints(const std::vector<PointCloud>& clouds) : clouds_(clouds), info_(clouds.front().info()) {
    info_.count = 0;
    info_.bounds = {};
    info_.sources.clear();
    info_.fields = F::All;
    bool same_extra = true;
    for (std::size_t k = 0; k < clouds.size(); ++k) {
      const PointInfo& c = clouds[k].info();
      const auto first_source = static_cast<std::uint32_t>(info_.sources.size());
      for (std::size_t i = 0; i < clouds[k].parts(); ++i) places_.push_back({k, i, info_.count, first_source});
      refuse_mixture(c);
      info_.count += c.count;
      info_.exact = info_.exact && c.exact;
      info_.bounds.include(c.bounds);
      info_.lowest = std::min(info_.lowest, c.lowest);
      info_.highest = std::max(info_.highest, c.highest);
      info_.fields = info_.fields & c.fields;
      info_.sources.insert(info_.sources.end(), c.sources.begin(), c.sources.end());
      same_extra = same_extra && c.extra_bytes == info_.extra_bytes && same_attributes(c.extra, info_.extra);
      for (const std::string& n : c.notes)
        if (std::find(info_.notes.begin(), info_.notes.end(), n) == info_.notes.end()) info_.notes.push_back(n);
      if (c.record_format != info_.record_format) info_.record_format = -1;
      if (c.time != info_.time) info_.time = PointTime::None;
      if (info_.lattice && c.lattice) {
        // One lattice for all: the finest steps, from the first origin.
        for (int a = 0; a < 3; ++a) info_.lattice->step[a] = std::min(info_.lattice->step[a], c.lattice->step[a]);
      } else {
        info_.lattice.reset();
      }
    }
    if (!same_extra) {
      info_.fields = without(info_.fields, F::Extra);
      info_.extra.clear();
      info_.extra_bytes = 0;
      info_.notes.push_back("the sheets have different attributes of their own: those were left out");
    }
    if (has(info_.fields, F::Time) && info_.time == PointTime::None) {
      info_.fields = without(info_.fields, F::Time);
      info_.notes.push_back("the sheets count time differently: times were left out");
    }
    if (clouds.size() > 1) info_.name = fmt::format("{} sheets", clouds.size());
  }
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return places_.size(); }
  PointPart part(std::size_t i) const override {
    PointPart p = clouds_[places_[i].cloud].part(places_[i].part);
    p.first += places_[i].before;
    p.source += places_[i].first_source;
    return p;
  }
  void read(std::size_t i, F fields, PointBatch& out) const override {
    clouds_[places_[i].cloud].read(places_[i].part, fields & info_.fields, out);
  }

 private:
  struct Place {
    std::size_t cloud, part;
    std::uint64_t before;
    std::uint32_t first_source;
  };
  static bool same_attributes(const std::vector<ExtraAttribute>& a, const std::vector<ExtraAttribute>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const ExtraAttribute& x, const ExtraAttribute& y) {
      return x.name == y.name && x.type == y.type && x.at == y.at && x.scale == y.scale && x.offset == y.offset;
    });
  }
  void refuse_mixture(const PointInfo& c) const {
    const PointInfo& first = clouds_.front().info();
    const bool same_place = c.crs.known() == first.crs.known() && (!c.crs || c.crs.same_place(first.crs));
    if (!same_place)
      throw Error(ErrorCode::Refused,
                  fmt::format("is in {} and '{}' in {}", c.crs ? c.crs.label() : "no known CRS", first.name,
                              first.crs ? first.crs.label() : "no known CRS"),
                  c.name, "reproject one of them first, or say its CRS with --crs");
    if (!(c.quantity.heights == first.quantity.heights))
      throw Error(ErrorCode::Refused,
                  fmt::format("has heights above {} and '{}' above {}", c.quantity.heights.name(), first.name,
                              first.quantity.heights.name()),
                  c.name, "bring them to one reference with --heights");
    if (c.quantity.unit != first.quantity.unit || c.quantity.unit_known != first.quantity.unit_known)
      throw Error(ErrorCode::Refused,
                  fmt::format("has heights in {} and '{}' in {}",
                              c.quantity.unit_known ? symbol(c.quantity.unit) : "an unknown unit", first.name,
                              first.quantity.unit_known ? symbol(first.quantity.unit) : "an unknown unit"),
                  c.name, "bring them to one unit with --unit");
  }
  std::vector<PointCloud> clouds_;
  PointInfo info_;
  std::vector<Place> places_;
};

// ---- the same points elsewhere

class ReprojectedPoints : public Derived {
 public:
  ReprojectedPoints(const PointCloud& in, const Crs& crs) : Derived(in), transform_(in.info().crs, crs) {
    info_.crs = crs;
    info_.bounds = transformed(in.info().bounds, transform_);
    if (info_.lattice) {
      // Integers of the other system: steps of about the same size there, from a round place near the points.
      const bool degrees = crs.is_geographic();
      info_.lattice->step[0] = info_.lattice->step[1] = degrees ? 1e-9 : 0.001;
      const Point c = info_.bounds.empty() ? Point{} : info_.bounds.centre();
      info_.lattice->origin[0] = degrees ? std::floor(c.x) : std::floor(c.x / 1000) * 1000;
      info_.lattice->origin[1] = degrees ? std::floor(c.y) : std::floor(c.y / 1000) * 1000;
    }
    if (transform_.is_ballpark())
      info_.notes.push_back(
          "the shift between the datums is not known here and was left out: up to hundreds of metres off");
    for (SourceRecord& s : info_.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + std::string("reprojected");
  }
  PointPart part(std::size_t i) const override {
    PointPart p = in_.part(i);
    if (!p.box.empty()) p.box = transformed(p.box, transform_);
    return p;
  }
  void read(std::size_t i, F fields, PointBatch& out) const override {
    in_.read(i, fields, out);
    std::vector<Point> places(out.size());
    for (std::size_t k = 0; k < places.size(); ++k) places[k] = {out.x[k], out.y[k]};
    transform_.forward(places);
    std::vector<std::uint8_t> marks(places.size(), 1);
    for (std::size_t k = 0; k < places.size(); ++k) {
      out.x[k] = places[k].x;
      out.y[k] = places[k].y;
      marks[k] = std::isfinite(places[k].x) && std::isfinite(places[k].y);
    }
    out.keep(marks);
  }

 private:
  Transform transform_;
};

// Heights changed by a factor and an amount that may depend on the place.
class ChangedHeights : public Derived {
 public:
  using Shift = std::function<void(const PointBatch&, std::vector<double>& metres)>;
  ChangedHeights(const PointCloud& in, double factor, Shift shift, const std::string& treatment)
      : Derived(in), factor_(factor), shift_(std::move(shift)) {
    info_.lowest *= factor;
    info_.highest *= factor;
    if (factor < 0) std::swap(info_.lowest, info_.highest);
    if (info_.lattice) {
      // Steps that hold the new heights to the same fineness, unless the change moves all by whole steps.
      const double step = info_.lattice->step[2];
      info_.lattice->step[2] = std::min(step, 0.001);
      info_.lattice->origin[2] = 0;
    }
    for (SourceRecord& s : info_.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + treatment;
  }
  void read(std::size_t i, F fields, PointBatch& out) const override {
    in_.read(i, fields, out);
    if (factor_ != 1)
      for (double& z : out.z) z *= factor_;
    if (!shift_) return;
    std::vector<double> metres(out.size(), 0);
    shift_(out, metres);
    const double per = metres_per(info_.quantity.unit);
    std::vector<std::uint8_t> marks(out.size(), 1);
    for (std::size_t k = 0; k < out.size(); ++k) {
      out.z[k] += metres[k] / per;
      marks[k] = std::isfinite(metres[k]);
    }
    out.keep(marks);
  }

 private:
  double factor_;
  Shift shift_;
};

}  // namespace

Returns parse_returns(std::string_view text) {
  if (text == "all") return Returns::All;
  if (text == "first") return Returns::First;
  if (text == "last") return Returns::Last;
  if (text == "only") return Returns::Only;
  if (text == "between") return Returns::Between;
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' names no returns", text), {},
              "choose from all, first, last, only, between");
}

PointCloud select(const PointCloud& cloud, const PointSelection& selection) {
  return PointCloud(std::make_shared<SelectedPoints>(cloud, selection));
}

bool has_class(const PointCloud& cloud, int classification, const RunOptions& run) {
  RunOptions quiet = run;
  quiet.silent = true;
  std::atomic<bool> found = false;
  parallel_for(cloud.parts(), quiet, [&](std::size_t i) {
    if (found) return;
    const PointBatch b = cloud.read(i, F::Class);
    if (std::find(b.classification.begin(), b.classification.end(), classification) != b.classification.end())
      found = true;
  });
  return found;
}

PointCloud merged(const std::vector<PointCloud>& clouds) {
  if (clouds.empty()) throw Error(ErrorCode::BadArgument, "there are no points to merge", {}, "name at least one file");
  if (clouds.size() == 1) return clouds.front();
  return PointCloud(std::make_shared<MergedPoints>(clouds));
}

PointCloud reprojected(const PointCloud& cloud, const Crs& crs) {
  if (!cloud.info().crs)
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be moved from it",
                cloud.info().name, "say which it has with --from-crs");
  if (cloud.info().crs.same_place(crs)) return cloud;
  return PointCloud(std::make_shared<ReprojectedPoints>(cloud, crs));
}

PointCloud to_heights(const PointCloud& cloud, const HeightReference& to) {
  const PointInfo& info = cloud.info();
  if (info.quantity.heights == to) return cloud;
  auto transform = std::make_shared<VerticalTransform>(info.crs, info.quantity.heights, to, info.bounds);
  auto source = std::make_shared<ChangedHeights>(
      cloud, 1,
      [transform](const PointBatch& b, std::vector<double>& metres) {
        std::vector<Point> places(b.size());
        for (std::size_t k = 0; k < places.size(); ++k) places[k] = {b.x[k], b.y[k]};
        transform->shifts(places, metres);
      },
      transform->description());
  source->info_to_change().quantity.heights = to;
  return PointCloud(source);
}

PointCloud in_unit(const PointCloud& cloud, LengthUnit unit) {
  const Quantity& q = cloud.info().quantity;
  if (q.unit_known && q.unit == unit) return cloud;
  auto source = std::make_shared<ChangedHeights>(cloud, metres_per(q.unit) / metres_per(unit), nullptr,
                                                 fmt::format("{} to {}", symbol(q.unit), symbol(unit)));
  source->info_to_change().quantity.unit = unit;
  source->info_to_change().quantity.unit_known = true;
  return PointCloud(source);
}

PointCloud depths_as_heights(const PointCloud& cloud) {
  auto source = std::make_shared<ChangedHeights>(cloud, -1, nullptr, "depths turned");
  PointInfo& info = source->info_to_change();
  info.quantity.heights = info.quantity.heights.as_heights();
  info.notes.push_back("depths, positive down, were turned into heights");
  return PointCloud(source);
}

PointCloud shifted_heights(const PointCloud& cloud, Length by, const HeightReference& to) {
  auto source = std::make_shared<ChangedHeights>(
      cloud, 1,
      [by](const PointBatch&, std::vector<double>& metres) { std::fill(metres.begin(), metres.end(), by.metres()); },
      fmt::format("shifted by {:g} m", by.metres()));
  PointInfo& info = source->info_to_change();
  info.quantity.heights = to;
  const double amount = by.metres() / metres_per(info.quantity.unit);
  info.lowest += amount;
  info.highest += amount;
  return PointCloud(source);
}

PointCloud shifted_heights(const PointCloud& cloud, const Grid& separation, const HeightReference& to) {
  const Crs &here = cloud.info().crs, &there = separation.frame().crs();
  if (!here || !there)
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so the separation cannot be laid over it",
                !here ? cloud.info().name : separation.info().name, "give it one with --crs");
  const auto transform = here.same_place(there) ? nullptr : std::make_shared<const Transform>(here, there);
  auto source = std::make_shared<ChangedHeights>(
      cloud, 1,
      [=, unit = metres_per(separation.quantity().unit)](const PointBatch& b, std::vector<double>& metres) {
        GridSampler sampler(separation, InVoid::StaysVoid);
        std::vector<Point> places(b.size());
        for (std::size_t k = 0; k < places.size(); ++k) places[k] = {b.x[k], b.y[k]};
        if (transform) transform->forward(places);
        for (std::size_t k = 0; k < places.size(); ++k) metres[k] = unit * sampler.at(places[k].x, places[k].y);
      },
      fmt::format("separation {} added", separation.info().name));
  PointInfo& info = source->info_to_change();
  info.quantity.heights = to;
  info.exact = false;
  const Bounds reach = transform && !info.bounds.empty() ? transformed(info.bounds, *transform) : info.bounds;
  const Bounds box = separation.frame().bounds();
  if (reach.west < box.west || reach.east > box.east || reach.south < box.south || reach.north > box.north)
    info.notes.push_back(
        fmt::format("{} does not reach all points: those beyond it were left out", separation.info().name));
  return PointCloud(source);
}

}  // namespace katoptra
