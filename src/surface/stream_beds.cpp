#include "stream_beds.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <unordered_map>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

struct BedCell {
  std::int64_t col = 0, row = 0;
  bool operator==(const BedCell&) const = default;
  std::uint64_t key() const { return static_cast<std::uint64_t>(row) << 32 | static_cast<std::uint64_t>(col); }
};

// The cells that a line runs through within a frame, each sharing a side with the one before; parts where it leaves.
std::vector<std::vector<BedCell>> cells_under(const LineString& line, const Frame& f) {
  std::vector<std::vector<BedCell>> parts(1);
  const auto add = [&](BedCell c) {
    if (c.col < 0 || c.row < 0 || c.col >= f.cols() || c.row >= f.rows()) {
      if (!parts.back().empty()) parts.emplace_back();
      return;
    }
    std::vector<BedCell>& part = parts.back();
    if (!part.empty() && part.back() == c) return;
    if (!part.empty() && part.back().col != c.col && part.back().row != c.row) part.push_back({c.col, part.back().row});
    part.push_back(c);
  };
  for (std::size_t i = 0; i + 1 < line.size(); ++i) {
    const double c0 = f.col_at(f.told_here(line[i].x)), r0 = f.row_at(line[i].y),
                 c1 = f.col_at(f.told_here(line[i + 1].x)), r1 = f.row_at(line[i + 1].y);
    // Only what lies within the frame is walked, in steps of half a cell.
    double from = 0, to = 1;
    const auto cut = [&](double a, double b, double most) {
      if (a == b) {
        if (a < 0 || a >= most) to = -1;
        return;
      }
      from = std::max(from, std::min((0 - a) / (b - a), (most - a) / (b - a)));
      to = std::min(to, std::max((0 - a) / (b - a), (most - a) / (b - a)));
    };
    cut(c0, c1, static_cast<double>(f.cols()));
    cut(r0, r1, static_cast<double>(f.rows()));
    if (!(from <= to)) {
      if (!parts.back().empty()) parts.emplace_back();
      continue;
    }
    const double length = std::max(std::abs(c1 - c0), std::abs(r1 - r0)) * (to - from);
    const auto steps = static_cast<std::int64_t>(std::ceil(2 * length)) + 1;
    for (std::int64_t k = 0; k <= steps; ++k) {
      const double t = from + (to - from) * static_cast<double>(k) / static_cast<double>(steps);
      add({static_cast<std::int64_t>(std::floor(c0 + t * (c1 - c0))),
           static_cast<std::int64_t>(std::floor(r0 + t * (r1 - r0)))});
    }
  }
  return parts;
}

class BedSource final : public GridSource {
 public:
  struct At {
    BedCell cell;
    float z = 0;
  };
  // `cells` by row, then column.
  BedSource(Grid input, GridInfo info, std::vector<At> cells)
      : input_(std::move(input)), info_(std::move(info)), cells_(std::move(cells)) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    const auto source = static_cast<std::uint32_t>(info_.sources.size());
    for (std::int64_t r = 0; r < w.rows; ++r) {
      auto it = std::partition_point(cells_.begin(), cells_.end(), [&](const At& a) {
        return a.cell.row < w.row + r || (a.cell.row == w.row + r && a.cell.col < w.col);
      });
      for (; it != cells_.end() && it->cell.row == w.row + r && it->cell.col < w.col + w.cols; ++it) {
        const std::int64_t c = it->cell.col - w.col;
        out.row(r)[c] = it->z;
        if (out.origin) out.origin_row(r)[c] = origin_code(source, How::Filled);
        if (out.uncertainty) out.uncertainty_row(r)[c] = kVoid;
      }
    }
  }

 private:
  Grid input_;
  GridInfo info_;
  std::vector<At> cells_;
};

class BedFinder {
 public:
  explicit BedFinder(const Grid& grid) : grid_(grid) {}

  // Beds of one line; true when some are new.
  bool follow(const std::vector<BedCell>& path, StreamBeds& out) {
    const std::vector<float> z = heights_of(path);
    bool found = false;
    std::size_t last = path.size();  // the last known cell
    for (std::size_t i = 0; i < path.size(); ++i) {
      if (std::isnan(z[i])) continue;
      if (last < path.size() && i > last + 1) {
        lay(path, last, i, z);
        ++out.crossings;
        found = true;
      }
      last = i;
    }
    return found;
  }
  std::vector<BedSource::At> cells() const {
    std::vector<BedSource::At> out;
    for (const auto& [key, z] : beds_)
      out.push_back({{static_cast<std::int64_t>(key & 0xFFFFFFFF), static_cast<std::int64_t>(key >> 32)}, z});
    std::sort(out.begin(), out.end(), [](const BedSource::At& a, const BedSource::At& b) {
      return a.cell.row != b.cell.row ? a.cell.row < b.cell.row : a.cell.col < b.cell.col;
    });
    return out;
  }

 private:
  std::vector<float> heights_of(const std::vector<BedCell>& path) const {
    std::vector<float> z(path.size());
    constexpr std::size_t kAtOnce = 256;
    for (std::size_t from = 0; from < path.size(); from += kAtOnce) {
      const std::size_t end = std::min(path.size(), from + kAtOnce);
      std::int64_t c0 = path[from].col, c1 = c0, r0 = path[from].row, r1 = r0;
      for (std::size_t i = from; i < end; ++i) {
        c0 = std::min(c0, path[i].col);
        c1 = std::max(c1, path[i].col);
        r0 = std::min(r0, path[i].row);
        r1 = std::max(r1, path[i].row);
      }
      const Block b = grid_.read({c0, r0, c1 - c0 + 1, r1 - r0 + 1});
      for (std::size_t i = from; i < end; ++i) {
        const auto bed = beds_.find(path[i].key());
        z[i] = bed != beds_.end() ? bed->second : b.at(path[i].col - c0, path[i].row - r0);
      }
    }
    return z;
  }
  // The lowest cell within two that lies at the rim, too: the line may run a little beside the stream.
  double lowest_near(BedCell c, float own) const {
    const Block b = grid_.read({c.col - 3, c.row - 3, 7, 7});
    float low = own;
    for (std::int64_t row = 1; row < 6; ++row)
      for (std::int64_t col = 1; col < 6; ++col) {
        bool at_rim = false;
        for (std::int64_t k = 0; k < 9; ++k) at_rim = at_rim || std::isnan(b.at(col + k % 3 - 1, row + k / 3 - 1));
        if (at_rim && b.at(col, row) < low) low = b.at(col, row);
      }
    return static_cast<double>(low);
  }
  void lay(const std::vector<BedCell>& path, std::size_t from, std::size_t to, const std::vector<float>& z) {
    const auto end_height = [&](std::size_t i) {
      return beds_.contains(path[i].key()) ? static_cast<double>(z[i]) : lowest_near(path[i], z[i]);
    };
    const double a = end_height(from), b = end_height(to);
    for (std::size_t i = from + 1; i < to; ++i)
      beds_.emplace(path[i].key(),
                    static_cast<float>(a + (b - a) * static_cast<double>(i - from) / static_cast<double>(to - from)));
  }

  const Grid& grid_;
  std::unordered_map<std::uint64_t, float> beds_;
};

}  // namespace

StreamBeds with_stream_beds(const Grid& grid, const Layer& lines) {
  const Frame& f = grid.frame();
  std::vector<std::vector<BedCell>> paths;
  bool any = false;
  const std::optional<Transform> move = lines.crs && f.crs() && !lines.crs.same_place(f.crs())
                                            ? std::optional(Transform(lines.crs, f.crs()))
                                            : std::nullopt;
  for (const Feature& feature : lines.features) {
    const Feature here = move ? carried(feature, *move) : feature;
    const auto* line = std::get_if<LineString>(&here.geometry);
    if (!line) continue;
    any = true;
    for (auto& part : cells_under(*line, f))
      if (part.size() > 2) paths.push_back(std::move(part));
  }
  if (!any)
    throw Error(ErrorCode::BadArgument, "holds no lines of streams", lines.name, "give a vector file with lines");
  StreamBeds out{grid};
  BedFinder finder(grid);
  // A stream that ends on the bed of another waits for that: as often as one more is found.
  for (bool found = true; found;) {
    found = false;
    for (const auto& path : paths) found = finder.follow(path, out) || found;
  }
  std::vector<BedSource::At> cells = finder.cells();
  out.cells = static_cast<std::int64_t>(cells.size());
  if (cells.empty()) return out;
  GridInfo info = grid.info();
  info.sources.push_back(
      {.name = "fill: the bed of a stream", .survey = {}, .date = {}, .cell = ground_spacing(f).y, .treatment = {}});
  if (is_integer(info.type)) {
    info.type = SampleType::Float32;
    info.file_void.reset();
  }
  out.grid = Grid(std::make_shared<BedSource>(grid, std::move(info), std::move(cells)));
  return out;
}

}  // namespace katoptra
