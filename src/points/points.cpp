#include "katoptra/points/points.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"

#include "base/pool.hpp"
#include "shared_points.hpp"

namespace katoptra {
namespace {

// Every column with its width, in one place.
template <class Batch, class F>
void each_column(Batch& b, F&& f) {
  f(b.x, PointFields::None);
  f(b.y, PointFields::None);
  f(b.z, PointFields::None);
  f(b.intensity, PointFields::Intensity);
  f(b.return_number, PointFields::Return);
  f(b.return_count, PointFields::Return);
  f(b.classification, PointFields::Class);
  f(b.flags, PointFields::Flags);
  f(b.user, PointFields::User);
  f(b.angle, PointFields::Angle);
  f(b.source, PointFields::Source);
  f(b.time, PointFields::Time);
  f(b.red, PointFields::Colour);
  f(b.green, PointFields::Colour);
  f(b.blue, PointFields::Colour);
  f(b.infrared, PointFields::Infrared);
  f(b.extra, PointFields::Extra);
  f(b.waveform, PointFields::Waveform);
}

template <class T>
void keep_column(std::vector<T>& v, const std::vector<std::uint8_t>& marks) {
  if (v.empty() || marks.empty()) return;
  const std::size_t width = v.size() / marks.size();
  std::size_t to = 0;
  for (std::size_t i = 0; i < marks.size(); ++i) {
    if (!marks[i]) continue;
    if (to != i)
      std::copy_n(v.begin() + static_cast<std::ptrdiff_t>(i * width), width,
                  v.begin() + static_cast<std::ptrdiff_t>(to * width));
    ++to;
  }
  v.resize(to * width);
}

class MemoryPoints : public PointSource {
 public:
  MemoryPoints(PointBatch batch, PointInfo info, std::size_t part_size)
      : batch_(std::move(batch)), info_(std::move(info)), part_size_(part_size) {
    info_.count = batch_.size();
    info_.bounds = {};
    info_.lowest = std::numeric_limits<double>::infinity();
    info_.highest = -info_.lowest;
    for (std::size_t i = 0; i < batch_.size(); ++i) {
      info_.bounds.include(Point{batch_.x[i], batch_.y[i]});
      info_.lowest = std::min(info_.lowest, batch_.z[i]);
      info_.highest = std::max(info_.highest, batch_.z[i]);
    }
    for (std::size_t p = 0; p < parts(); ++p) {
      Bounds box;
      for (std::size_t i = p * part_size_; i < std::min(batch_.size(), (p + 1) * part_size_); ++i)
        box.include(Point{batch_.x[i], batch_.y[i]});
      boxes_.push_back(box);
    }
  }
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return (batch_.size() + part_size_ - 1) / part_size_; }
  PointPart part(std::size_t i) const override {
    const std::size_t from = i * part_size_;
    return {std::min(part_size_, batch_.size() - from), boxes_[i], from};
  }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    const std::size_t from = i * part_size_, n = std::min(part_size_, batch_.size() - from);
    out.clear();
    // Column by column, through the same walk over both batches.
    std::vector<std::pair<const void*, std::size_t>> columns;
    each_column(batch_, [&](const auto& v, PointFields f) {
      const bool wanted = f == PointFields::None || has(fields, f);
      columns.push_back({wanted ? v.data() : nullptr, batch_.size() ? v.size() / batch_.size() : 0});
    });
    std::size_t k = 0;
    each_column(out, [&](auto& v, PointFields) {
      using T = typename std::remove_reference_t<decltype(v)>::value_type;
      const auto [data, width] = columns[k++];
      if (!data) return;
      const T* from_data = static_cast<const T*>(data) + from * width;
      v.assign(from_data, from_data + n * width);
    });
  }

 private:
  PointBatch batch_;
  PointInfo info_;
  std::size_t part_size_;
  std::vector<Bounds> boxes_;
};

class RelabelledPoints : public PointSource {
 public:
  RelabelledPoints(PointCloud in, PointInfo info) : in_(std::move(in)), info_(std::move(info)) {}
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return in_.parts(); }
  PointPart part(std::size_t i) const override { return in_.part(i); }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override { in_.read(i, fields, out); }

 private:
  PointCloud in_;
  PointInfo info_;
};

class BoxedPoints : public PointSource {
 public:
  BoxedPoints(PointCloud in, std::vector<Bounds> boxes) : in_(std::move(in)), boxes_(std::move(boxes)) {}
  const PointInfo& info() const override { return in_.info(); }
  std::size_t parts() const override { return in_.parts(); }
  PointPart part(std::size_t i) const override {
    PointPart p = in_.part(i);
    p.box = boxes_[i];
    return p;
  }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override { in_.read(i, fields, out); }

 private:
  PointCloud in_;
  std::vector<Bounds> boxes_;
};

class SomeParts : public PointSource {
 public:
  SomeParts(PointCloud in, std::vector<std::size_t> parts)
      : in_(std::move(in)), info_(in_.info()), parts_(std::move(parts)) {
    info_.exact = false;
  }
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return parts_.size(); }
  PointPart part(std::size_t i) const override { return in_.part(parts_[i]); }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override { in_.read(parts_[i], fields, out); }

 private:
  PointCloud in_;
  PointInfo info_;
  std::vector<std::size_t> parts_;
};

constexpr std::array<const char*, 23> kClasses{"never classified",
                                               "unassigned",
                                               "ground",
                                               "low vegetation",
                                               "medium vegetation",
                                               "high vegetation",
                                               "building",
                                               "low noise",
                                               "model key point",
                                               "water",
                                               "rail",
                                               "road surface",
                                               "overlap",
                                               "wire guard",
                                               "wire conductor",
                                               "tower",
                                               "wire connector",
                                               "bridge deck",
                                               "high noise",
                                               "overhead",
                                               "ignored ground",
                                               "snow",
                                               "temporal exclusion"};

}  // namespace

void PointBatch::clear() {
  each_column(*this, [](auto& v, PointFields) { v.clear(); });
}

void PointBatch::resize(std::size_t n, PointFields fields, int extra_bytes) {
  each_column(*this, [&](auto& v, PointFields f) {
    const bool wanted = f == PointFields::None || has(fields, f);
    const std::size_t width = f == PointFields::Extra      ? static_cast<std::size_t>(extra_bytes)
                              : f == PointFields::Waveform ? std::size_t{kWaveformBytes}
                                                           : 1;
    v.resize(wanted ? n * width : 0);
  });
}

void PointBatch::keep(const std::vector<std::uint8_t>& marks) {
  if (std::find(marks.begin(), marks.end(), std::uint8_t{0}) == marks.end()) return;
  each_column(*this, [&](auto& v, PointFields) { keep_column(v, marks); });
}

void PointBatch::append(const PointBatch& other) {
  std::vector<const void*> columns;
  std::vector<std::size_t> sizes;
  each_column(other, [&](const auto& v, PointFields) {
    columns.push_back(v.data());
    sizes.push_back(v.size());
  });
  std::size_t k = 0;
  each_column(*this, [&](auto& v, PointFields) {
    using T = typename std::remove_reference_t<decltype(v)>::value_type;
    const T* from = static_cast<const T*>(columns[k]);
    v.insert(v.end(), from, from + sizes[k++]);
  });
}

double ExtraAttribute::value(const std::uint8_t* extra) const {
  auto as = [&]<class T>(T) {
    T v;
    std::memcpy(&v, extra + at, sizeof v);
    return static_cast<double>(v);
  };
  double v = std::nan("");
  switch (type) {
    case 1:
      v = as(std::uint8_t{});
      break;
    case 2:
      v = as(std::int8_t{});
      break;
    case 3:
      v = as(std::uint16_t{});
      break;
    case 4:
      v = as(std::int16_t{});
      break;
    case 5:
      v = as(std::uint32_t{});
      break;
    case 6:
      v = as(std::int32_t{});
      break;
    case 7:
      v = as(std::uint64_t{});
      break;
    case 8:
      v = as(std::int64_t{});
      break;
    case 9:
      v = as(float{});
      break;
    case 10:
      v = as(double{});
      break;
    default:
      return v;
  }
  if (no_data && v == *no_data) return std::nan("");
  return v * scale + offset;
}

PointBatch PointCloud::read(std::size_t i, PointFields fields) const {
  PointBatch b;
  read(i, fields, b);
  return b;
}

PointCloud points_from_batch(PointBatch batch, const PointInfo& info, std::size_t part_size) {
  const std::size_t n = batch.size();
  PointInfo facts = info;
  facts.fields = PointFields::None;
  each_column(batch, [&](const auto& v, PointFields f) {
    const std::size_t width = f == PointFields::Extra      ? static_cast<std::size_t>(std::max(info.extra_bytes, 0))
                              : f == PointFields::Waveform ? std::size_t{kWaveformBytes}
                                                           : 1;
    const bool must = f == PointFields::None;
    if (v.empty() && !must) return;
    if (v.size() != n * width)
      throw Error(ErrorCode::BadArgument, "the columns of the points differ in length", info.name);
    facts.fields = facts.fields | f;
  });
  if (part_size == 0) throw Error(ErrorCode::BadArgument, "a part needs at least one point", info.name);
  return PointCloud(std::make_shared<MemoryPoints>(std::move(batch), std::move(facts), part_size));
}

PointCloud relabelled(const PointCloud& cloud, const std::function<void(PointInfo&)>& change) {
  PointInfo info = cloud.info();
  change(info);
  return PointCloud(std::make_shared<RelabelledPoints>(cloud, std::move(info)));
}

PointTally tally(const PointCloud& cloud, const RunOptions& run) {
  if (cloud.info().exact) return {cloud.info().count, cloud.info().bounds};
  PointTally all;
  share_points<PointTally>(
      cloud, PointFields::None, run,
      [](const PointBatch& b, PointTally& there) {
        there.count += b.size();
        for (std::size_t i = 0; i < b.size(); ++i) there.bounds.include(Point{b.x[i], b.y[i]});
      },
      [&](const PointTally& there) {
        all.count += there.count;
        all.bounds.include(there.bounds);
      });
  return all;
}

std::vector<Bounds> part_boxes(const PointCloud& cloud, const RunOptions& run) {
  std::vector<Bounds> boxes;
  map_points(
      cloud, PointFields::None, run,
      [](std::size_t, PointBatch& b) -> std::shared_ptr<void> {
        auto box = std::make_shared<Bounds>();
        for (std::size_t i = 0; i < b.size(); ++i) box->include(Point{b.x[i], b.y[i]});
        return box;
      },
      [&](std::shared_ptr<void> box) { boxes.push_back(*static_cast<const Bounds*>(box.get())); });
  return boxes;
}

PointCloud with_boxes(const PointCloud& cloud, std::vector<Bounds> boxes) {
  if (boxes.size() != cloud.parts())
    throw Error(ErrorCode::BadArgument, "the index of the points is not of this file", cloud.info().name,
                "build it anew");
  return PointCloud(std::make_shared<BoxedPoints>(cloud, std::move(boxes)));
}

PointCloud parts_near(const PointCloud& cloud, const Bounds& box) {
  std::vector<std::size_t> near;
  for (std::size_t i = 0; i < cloud.parts(); ++i)
    if (const Bounds b = cloud.part(i).box; b.empty() || b.intersects(box)) near.push_back(i);
  return near.size() == cloud.parts() ? cloud : PointCloud(std::make_shared<SomeParts>(cloud, std::move(near)));
}

void map_points(const PointCloud& cloud, PointFields fields, const RunOptions& options,
                const std::function<std::shared_ptr<void>(std::size_t, PointBatch&)>& map,
                const std::function<void(std::shared_ptr<void>)>& reduce) {
  const std::size_t n = cloud.parts();
  // A few parts a thread: each is some megabytes, and the placer is quick.
  const auto in_flight = static_cast<std::size_t>(3 * thread_count(options));
  Pool<PointBatch> batches;
  parallel_ordered(
      n, in_flight, options,
      [&](std::size_t i) {
        PointBatch batch = batches.take([] { return PointBatch(); });
        cloud.read(i, fields, batch);
        std::shared_ptr<void> result = map(i, batch);
        batches.give(std::move(batch));
        return result;
      },
      [&](std::size_t, std::shared_ptr<void> result) { reduce(std::move(result)); });
}

void for_each_batch(const PointCloud& cloud, PointFields fields, const RunOptions& options,
                    const std::function<void(const PointBatch&)>& body) {
  map_points(
      cloud, fields, options,
      [](std::size_t, PointBatch& b) {
        return std::static_pointer_cast<void>(std::make_shared<PointBatch>(std::move(b)));
      },
      [&](std::shared_ptr<void> b) { body(*static_cast<const PointBatch*>(b.get())); });
}

std::string class_name(int c) {
  return c >= 0 && c < static_cast<int>(kClasses.size()) ? kClasses[static_cast<std::size_t>(c)]
                                                         : fmt::format("class {}", c);
}

int parse_class(std::string_view text) {
  if (const auto n = parse_number(text); n && *n >= 0 && *n <= 255 && *n == std::floor(*n)) return static_cast<int>(*n);
  for (std::size_t i = 0; i < kClasses.size(); ++i)
    if (text == kClasses[i]) return static_cast<int>(i);
  throw Error(ErrorCode::BadArgument, fmt::format("'{}' is not a class of points", text), {},
              "give its number (2 for ground, 6 for buildings), or a name such as ground, building, water");
}

}  // namespace katoptra
