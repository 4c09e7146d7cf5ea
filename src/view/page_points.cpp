// Points are sorted into square blocks of the frame, and along a Z-shaped curve within each (Morton 1966), so that what
// follows one another lies together and differences are small.
#include "page_points.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "katoptra/base/parallel.hpp"
#include "katoptra/points/select.hpp"

#include "page_parts.hpp"
#include "plane_bytes.hpp"
#include "point_colours.hpp"

namespace katoptra {

using nlohmann::ordered_json;

namespace {

constexpr std::int64_t kInBlock = 40'000;
constexpr int kMostBlocks = 64;  // along a side

struct Steps {
  double x = 1, y = 1, z = 0.001;
};

// One centimetre on the ground along the frame, a millimetre upwards; or the steps of the file where those are larger.
Steps steps_of(const PointInfo& info, const Frame& frame) {
  const GroundSpacing s = ground_spacing(frame);
  Steps out{0.01 / (s.x.metres() / frame.cell().x), 0.01 / (s.y.metres() / frame.cell().y),
            info.quantity.unit == LengthUnit::Metre ? 0.001 : 0.002};
  if (info.lattice) {
    const double upright = std::abs(info.lattice->step[2]);
    if (upright > out.z) out.z = upright;
  }
  return out;
}

// Of one point: where it lies in steps, and what it is.
struct Row {
  std::uint64_t lot;
  std::int32_t x, y, z;
  std::uint16_t intensity, source, red, green, blue;
  std::uint8_t classification, turn;  // turn: its return, and how many there are in the upper half
};

// A shuffle of all numbers of 64 bits (the finisher of SplitMix64, Steele, Lea & Flood 2014): one to one.
std::uint64_t lot_of(std::uint64_t n) {
  n += 0x9E3779B97F4A7C15u;
  n = (n ^ n >> 30) * 0xBF58476D1CE4E5B9u;
  n = (n ^ n >> 27) * 0x94D049BB133111EBu;
  return n ^ n >> 31;
}

std::uint32_t spread(std::uint32_t v) {
  v = (v | v << 8) & 0x00FF00FFu;
  v = (v | v << 4) & 0x0F0F0F0Fu;
  v = (v | v << 2) & 0x33333333u;
  return (v | v << 1) & 0x55555555u;
}

class Gatherer {
 public:
  Gatherer(const PointCloud& cloud, const Frame& frame, std::int64_t most, const RunOptions& run)
      : cloud_(select(cloud, {.box = frame.bounds()})),
        frame_(frame),
        most_(most),
        run_(run),
        steps_(steps_of(cloud.info(), frame)) {}

  PagePoints put(PageData& page) {
    PagePoints out;
    choose(out.there);
    if (out.there == 0) return out;
    spread_over_blocks();
    ordered_json blocks = ordered_json::array();
    std::vector<std::uint8_t> bytes;
    std::vector<std::vector<std::vector<std::uint8_t>>> packed(blocks_.size());
    parallel_for(blocks_.size(), run_, [&](std::size_t i) { packed[i] = columns_of(blocks_[i]); });
    for (std::size_t i = 0; i < blocks_.size(); ++i) {
      if (blocks_[i].empty()) continue;
      ordered_json lengths = ordered_json::array();
      for (const auto& column : packed[i]) {
        lengths.push_back(column.size());
        bytes.insert(bytes.end(), column.begin(), column.end());
      }
      blocks.push_back({{"n", blocks_[i].size()}, {"lengths", lengths}});
      out.shown += static_cast<std::int64_t>(blocks_[i].size());
    }
    page.bytes("points", bytes);
    out.facts = facts_of(out);
    out.facts["blocks"] = blocks;
    out.facts["bytes"] = bytes.size();
    return out;
  }

 private:
  // All of them, or as many as may be: those whose lot is lowest. Lots are a fixed shuffle of the running numbers, so
  // no two are equal and the choice is the same each time; what cannot be among them any more goes from time to time.
  void choose(std::int64_t& there) {
    const auto most = static_cast<std::size_t>(most_);
    std::uint64_t limit = UINT64_MAX;
    for_each_batch(cloud_, fields(), run_, [&](const PointBatch& b) {
      for (std::size_t i = 0; i < b.size(); ++i)
        if (const std::uint64_t lot = lot_of(static_cast<std::uint64_t>(there++)); lot <= limit)
          rows_.push_back(row_of(b, i, lot));
      if (rows_.size() > most + most / 4) limit = cut(most);
    });
    if (rows_.size() > most) cut(most);
  }
  std::uint64_t cut(std::size_t most) {
    const auto last = rows_.begin() + static_cast<std::ptrdiff_t>(most) - 1;
    std::nth_element(rows_.begin(), last, rows_.end(), [](const Row& a, const Row& b) { return a.lot < b.lot; });
    rows_.erase(last + 1, rows_.end());
    return rows_.back().lot;
  }
  void spread_over_blocks() {
    const double wanted = std::ceil(std::sqrt(static_cast<double>(rows_.size()) / static_cast<double>(kInBlock)));
    side_ = static_cast<int>(std::clamp(wanted, 1.0, static_cast<double>(kMostBlocks)));
    blocks_.resize(static_cast<std::size_t>(side_ * side_));
    for (const Row& r : rows_) add(r);
    rows_ = {};
    parallel_for(blocks_.size(), run_, [&](std::size_t i) { sort(blocks_[i]); });
  }
  PointFields fields() const {
    return PointFields::Class | PointFields::Intensity | PointFields::Return | PointFields::Source |
           PointFields::Colour;
  }
  Row row_of(const PointBatch& b, std::size_t i, std::uint64_t lot) const {
    const auto steps = [](double v, double step) { return static_cast<std::int32_t>(std::llround(v / step)); };
    const auto known = [&](const std::vector<std::uint16_t>& column) {
      return column.empty() ? std::uint16_t{0} : column[i];
    };
    Row r{.lot = lot,
          .x = steps(frame_.told_here(b.x[i]) - frame_.west(), steps_.x),
          .y = steps(frame_.north() - b.y[i], steps_.y),
          .z = steps(b.z[i], steps_.z),
          .intensity = known(b.intensity),
          .source = known(b.source),
          .red = known(b.red),
          .green = known(b.green),
          .blue = known(b.blue),
          .classification = b.classification.empty() ? std::uint8_t{0} : b.classification[i],
          .turn = 0x11};
    if (!b.return_number.empty())
      r.turn =
          static_cast<std::uint8_t>(std::min<int>(15, b.return_number[i]) | std::min<int>(15, b.return_count[i]) << 4);
    return r;
  }
  void add(const Row& r) {
    most_colour_ = std::max({most_colour_, r.red, r.green, r.blue});
    low_ = std::min(low_, r.z);
    high_ = std::max(high_, r.z);
    most_intensity_ = std::max(most_intensity_, r.intensity);
    ++classes_[r.classification];
    ++turns_[r.turn & 15];
    ++sources_[r.source];
    const auto block = [&](double share) { return std::clamp(static_cast<int>(share * side_), 0, side_ - 1); };
    const Bounds box = frame_.bounds();
    blocks_[static_cast<std::size_t>(block(r.y * steps_.y / box.height()) * side_ +
                                     block(r.x * steps_.x / box.width()))]
        .push_back(r);
  }
  // 10 bits each way within the block are enough for neighbours to stand together.
  void sort(std::vector<Row>& rows) const {
    const double wide = frame_.bounds().width() / steps_.x / side_, high = frame_.bounds().height() / steps_.y / side_;
    const auto place = [&](const Row& r) {
      const auto part = [](double v, double size) {
        return static_cast<std::uint32_t>(std::clamp(std::fmod(v, size) / size * 1024, 0.0, 1023.0));
      };
      return spread(part(r.x, wide)) | spread(part(r.y, high)) << 1;
    };
    std::stable_sort(rows.begin(), rows.end(), [&](const Row& a, const Row& b) { return place(a) < place(b); });
  }

  bool has_colours() const { return most_colour_ > 0; }
  std::vector<std::vector<std::uint8_t>> columns_of(const std::vector<Row>& rows) const {
    std::vector<std::vector<std::uint8_t>> out;
    std::vector<std::int32_t> column(rows.size());
    const auto add_column = [&](auto value) {
      for (std::size_t i = 0; i < rows.size(); ++i) column[i] = static_cast<std::int32_t>(value(rows[i]));
      out.push_back(column_bytes(column));
    };
    // Colours of 8 bits often stand in the upper or in the lower byte.
    const int shift = most_colour_ > 255 ? 8 : 0;
    add_column([](const Row& r) { return r.x; });
    add_column([](const Row& r) { return r.y; });
    add_column([](const Row& r) { return r.z; });
    add_column([](const Row& r) { return r.classification; });
    add_column([](const Row& r) { return r.intensity; });
    add_column([](const Row& r) { return r.turn; });
    add_column([](const Row& r) { return r.source; });
    if (!has_colours()) return out;
    add_column([&](const Row& r) { return r.red >> shift; });
    add_column([&](const Row& r) { return r.green >> shift; });
    add_column([&](const Row& r) { return r.blue >> shift; });
    return out;
  }

  ordered_json facts_of(const PagePoints& p) const {
    ordered_json classes = ordered_json::array(), turns = ordered_json::array();
    for (const auto& [code, n] : classes_)
      classes.push_back(
          {{"code", code}, {"name", class_name(code)}, {"points", n}, {"colour", hex_of(class_colour(code))}});
    for (const auto& [number, n] : turns_) turns.push_back({{"number", number}, {"points", n}});
    const double low = low_ * steps_.z, high = high_ * steps_.z;
    return {{"shown", p.shown},
            {"there", p.there},
            {"step", {steps_.x / frame_.cell().x, steps_.y / frame_.cell().y, steps_.z}},  // in cells, and upwards
            {"classes", classes},
            {"returns", turns},
            {"lines", sources_.size()},
            {"intensity", most_intensity_},
            {"colours", has_colours()},
            {"ramp", ramp_for_page(Palette::land_and_sea(low, high), std::clamp(0.0, low, high))}};
  }

  PointCloud cloud_;
  const Frame& frame_;
  std::int64_t most_;
  RunOptions run_;
  Steps steps_;
  int side_ = 1;
  std::vector<Row> rows_;  // those chosen, before they are spread over blocks
  std::vector<std::vector<Row>> blocks_;
  std::map<int, std::int64_t> classes_, turns_, sources_;
  std::int32_t low_ = INT32_MAX, high_ = INT32_MIN;
  std::uint16_t most_intensity_ = 0, most_colour_ = 0;
};

}  // namespace

PagePoints put_points(PageData& page, const PointCloud& cloud, const Frame& frame, std::int64_t most,
                      const RunOptions& run) {
  return Gatherer(cloud, frame, std::clamp<std::int64_t>(most, 1, kMostPagePoints), run).put(page);
}

}  // namespace katoptra
