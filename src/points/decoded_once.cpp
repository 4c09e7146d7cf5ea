#include "decoded_once.hpp"

#include <atomic>
#include <bit>
#include <limits>
#include <memory>
#include <vector>

#include "katoptra/base/memory.hpp"

#include "base/packed.hpp"
#include "base/scratch.hpp"
#include "derived.hpp"

namespace katoptra {
namespace {

constexpr const char* kName = "points that are read again";

// Places are told in the integers of the lattice where that gives the same bits, which takes half of the room.
bool to_integers(const std::vector<double>& v, double step, double origin, std::vector<std::int32_t>& out) {
  constexpr double kMost = std::numeric_limits<std::int32_t>::max() - 1;
  out.resize(v.size());
  bool same = true;
  for (std::size_t i = 0; i < v.size(); ++i) {
    const double steps = (v[i] - origin) / step;
    const double held = steps > -kMost && steps < kMost ? steps : 0;  // NaN, too
    out[i] = static_cast<std::int32_t>(held < 0 ? held - 0.5 : held + 0.5);
    same &= std::bit_cast<std::uint64_t>(out[i] * step + origin) == std::bit_cast<std::uint64_t>(v[i]);
  }
  return same;
}

class DecodedOnce final : public Derived {
 public:
  DecodedOnce(const PointCloud& in, PointFields fields)
      : Derived(in), fields_(fields & in.info().fields & kColumns), parts_(in.parts()) {
    struct statvfs s = {};
    if (::statvfs(temporary_folder().c_str(), &s) == 0) most_ = std::uint64_t{s.f_bavail} * s.f_frsize / 4;
    try {
      scratch_ = open_unnamed_file(kName);
    } catch (const Error&) {
      most_ = 0;
    }
  }
  ~DecodedOnce() override {
    if (scratch_ >= 0) ::close(scratch_);
  }
  void read(std::size_t i, PointFields fields, PointBatch& out) const override {
    const PointFields wanted = fields & in_.info().fields;
    if ((wanted & fields_) != wanted) return in_.read(i, fields, out);
    Part& part = parts_[i];
    if (part.state != kWaits || !load(part, out)) {
      in_.read(i, fields_, out);
      int state = kNowhere;
      if (part.state.compare_exchange_strong(state, kOnItsWay)) part.state = keep(part, out) ? kWaits : kRefused;
    }
    drop_unasked(wanted, out);
  }

 private:
  enum State { kNowhere, kOnItsWay, kWaits, kRefused };
  struct Part {
    std::atomic<int> state{kNowhere};
    std::uint64_t at = 0, bytes = 0;
  };
  static constexpr PointFields kColumns = PointFields::Return | PointFields::Class | PointFields::Flags;

  // False when there is no room.
  bool keep(Part& part, const PointBatch& b) const {
    Packer packed;
    packed.bytes.reserve(b.size() * (3 * sizeof(double) + 4) + 128);
    std::vector<std::int32_t> integers;
    const std::vector<double>* axes[3] = {&b.x, &b.y, &b.z};
    for (int k = 0; k < 3; ++k) {
      const bool whole =
          info_.lattice && to_integers(*axes[k], info_.lattice->step[k], info_.lattice->origin[k], integers);
      packed.put(whole);
      if (whole)
        packed.put(integers);
      else
        packed.put(*axes[k]);
    }
    for (const auto* column : {&b.return_number, &b.return_count, &b.classification, &b.flags}) packed.put(*column);
    part.bytes = packed.bytes.size();
    part.at = end_.fetch_add(part.bytes);
    if (part.at + part.bytes > most_) return false;
    try {
      write_descriptor(scratch_, part.at, packed.bytes, kName);
    } catch (const Error&) {
      return false;
    }
    return true;
  }
  bool load(const Part& part, PointBatch& out) const {
    RawBytes bytes(part.bytes);
    try {
      if (read_descriptor(scratch_, part.at, bytes, kName) != part.bytes) return false;
    } catch (const Error&) {
      return false;
    }
    Unpacker packed(bytes);
    out.clear();
    std::vector<double>* axes[3] = {&out.x, &out.y, &out.z};
    for (int k = 0; k < 3; ++k) {
      if (!packed.take<bool>()) {
        *axes[k] = packed.take_all<double>();
        continue;
      }
      const std::vector<std::int32_t> integers = packed.take_all<std::int32_t>();
      axes[k]->resize(integers.size());
      const double step = info_.lattice->step[k], origin = info_.lattice->origin[k];
      for (std::size_t i = 0; i < integers.size(); ++i) (*axes[k])[i] = integers[i] * step + origin;
    }
    for (auto* column : {&out.return_number, &out.return_count, &out.classification, &out.flags})
      *column = packed.take_all<std::uint8_t>();
    return true;
  }

  PointFields fields_;
  int scratch_ = -1;
  // No more than a quarter of what is free, which others need, too.
  std::uint64_t most_ = std::uint64_t{1} << 62;
  mutable std::atomic<std::uint64_t> end_{0};
  mutable std::vector<Part> parts_;
};

}  // namespace

PointCloud decoded_once(const PointCloud& cloud, PointFields fields) {
  return PointCloud(std::make_shared<DecodedOnce>(cloud, fields));
}

}  // namespace katoptra
