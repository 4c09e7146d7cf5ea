// Clouds made of others: what they have in common.
#pragma once
#include <functional>

#include "katoptra/points/points.hpp"

namespace katoptra {

// The same parts and facts as its input, unless it says otherwise.
class Derived : public PointSource {
 public:
  explicit Derived(const PointCloud& in) : in_(in), info_(in.info()) {}
  const PointInfo& info() const override { return info_; }
  std::size_t parts() const override { return in_.parts(); }
  PointPart part(std::size_t i) const override { return in_.part(i); }
  PointInfo& info_to_change() { return info_; }

 protected:
  // Reads with fields that only this step needs; they are dropped again when nobody else asked for them.
  void read_with(std::size_t i, PointFields fields, PointFields needed, PointBatch& out) const {
    in_.read(i, fields | (needed & in_.info().fields), out);
  }
  static void drop_unasked(PointFields fields, PointBatch& out) {
    if (!has(fields, PointFields::Class)) out.classification.clear();
    if (!has(fields, PointFields::Flags)) out.flags.clear();
    if (!has(fields, PointFields::Source)) out.source.clear();
    if (!has(fields, PointFields::Time)) out.time.clear();
    if (!has(fields, PointFields::Return)) {
      out.return_number.clear();
      out.return_count.clear();
    }
  }
  PointCloud in_;
  PointInfo info_;
};

// Points chosen or changed by what is done to each batch: columns may be altered, and `keep` says which points stay.
class ChangedPoints : public Derived {
 public:
  using Change = std::function<void(std::size_t part, PointBatch& batch, std::vector<std::uint8_t>& keep)>;
  ChangedPoints(const PointCloud& in, PointFields needed, PointFields added, Change change)
      : Derived(in), needed_(needed), change_(std::move(change)) {
    info_.exact = false;
    info_.fields = info_.fields | added;
  }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    read_with(i, fields & in_.info().fields, needed_, out);
    std::vector<std::uint8_t> keep(out.size(), 1);
    change_(i, out, keep);
    out.keep(keep);
    drop_unasked(fields, out);
  }

 private:
  PointFields needed_;
  Change change_;
};

// A mark for some of the points of a cloud: a bit for each of them.
class PointMarks {
 public:
  explicit PointMarks(const PointCloud& cloud) {
    for (std::size_t i = 0; i < cloud.parts(); ++i)
      parts_.emplace_back(static_cast<std::size_t>(cloud.part(i).count), false);
  }
  void set(std::size_t part, std::size_t index) { parts_[part][index] = true; }
  bool get(std::size_t part, std::size_t index) const { return parts_[part][index]; }

 private:
  std::vector<std::vector<bool>> parts_;
};

// Which point of which part.
struct PointPlace {
  std::uint32_t part = 0, index = 0;
};

}  // namespace katoptra
