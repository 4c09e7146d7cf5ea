#include "sheets_read.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <list>
#include <map>
#include <mutex>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/http.hpp"

#include "base/json.hpp"
#include "formats/bytes/disk.hpp"
#include "grid/planes.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr const char* kEnding = ".sheets.geojson";
// Each holds a file or two, and programs may hold some thousand.
constexpr std::size_t kMostOpen = 200;
constexpr std::int64_t kMostCells = std::int64_t{1} << 31;  // along an edge, as a frame

struct Part {
  fs::path path;
  Window window;  // of the whole
};

[[noreturn]] void damaged(const std::string& what, const fs::path& index) {
  throw Error(ErrorCode::BadFile, what, index.string(), "write the sheets again, or join them with mosaic");
}

class SheetsIndex {
 public:
  explicit SheetsIndex(const fs::path& path) : path_(path) {
    constexpr std::size_t kLargest = 256u << 20;
    const json root = json::parse(read_text_file(path, kLargest), nullptr, false);
    const json& features = member(root, "features");
    if (!features.is_array() || features.empty()) damaged("is no index of sheets", path);
    for (const json& f : features) add(member(f, "properties"));
    refuse_overlaps();
  }
  const std::vector<Part>& parts() const { return parts_; }
  std::int64_t cols() const { return cols_; }
  std::int64_t rows() const { return rows_; }
  std::uint64_t bytes() const { return bytes_; }

 private:
  std::int64_t whole_number(const json& p, const char* key) const {
    const json& v = member(p, key);
    // Programs that write the index anew may make fractions of its numbers.
    const double d = v.is_number() ? v.get<double>() : -1;
    if (!(d >= 0) || d > static_cast<double>(kMostCells) || d != std::floor(d))
      damaged(fmt::format("a sheet in it has no '{}'", key), path_);
    return static_cast<std::int64_t>(d);
  }

  void add(const json& p) {
    const std::string name = word(p, "path");
    // Sheets lie beside their index; it leads nowhere else.
    if (name.empty() || name.find('/') != name.npos || name == "." || name == "..")
      damaged("a sheet in it has no file beside it", path_);
    Part part{is_url(path_.native()) ? fs::path(resolve_url(path_.native(), percent_encoded(name)))
                                     : path_.parent_path() / name,
              {whole_number(p, "col"), whole_number(p, "row"), whole_number(p, "cols"), whole_number(p, "rows")}};
    const std::int64_t cols = whole_number(p, "all_cols"), rows = whole_number(p, "all_rows");
    if (parts_.empty()) {
      cols_ = cols;
      rows_ = rows;
    }
    if (cols != cols_ || rows != rows_ || part.window.empty() || !Window{0, 0, cols, rows}.contains(part.window))
      damaged(fmt::format("the sheet {} lies beyond the surface", name), path_);
    bytes_ += static_cast<std::uint64_t>(std::max(number(p, "bytes"), 0.0));
    parts_.push_back(std::move(part));
  }

  // From north to south, those of a row together; a cell of two sheets would have two values.
  void refuse_overlaps() {
    std::sort(parts_.begin(), parts_.end(), [](const Part& a, const Part& b) {
      return std::pair(a.window.row, a.window.col) < std::pair(b.window.row, b.window.col);
    });
    for (std::size_t i = 1; i < parts_.size(); ++i) {
      const Window &a = parts_[i - 1].window, &b = parts_[i].window;
      const bool same_row = a.row == b.row;
      if (same_row ? a.rows != b.rows || a.col + a.cols > b.col : a.row + a.rows > b.row)
        damaged(fmt::format("{} and {} overlap", parts_[i - 1].path.filename().string(),
                            parts_[i].path.filename().string()),
                path_);
    }
  }

  fs::path path_;
  std::vector<Part> parts_;
  std::int64_t cols_ = 0, rows_ = 0;
  std::uint64_t bytes_ = 0;
};

// The sheets of an index, each opened when it is read first; those read last are held open.
class OpenSheets {
 public:
  OpenSheets(SheetsIndex index, const fs::path& path, const OpenOptions& options, const GridFile& first)
      : index_(std::move(index)), path_(path), options_(options), info_(first.grid.info()) {
    const Window& w = index_.parts()[0].window;
    const Frame& f = first.grid.frame();
    if (f.cols() != w.cols || f.rows() != w.rows) not_the_sheet(0);
    info_.frame = f.sub({-w.col, -w.row, index_.cols(), index_.rows()});
    info_.name = path.filename().string();
    lineage_ = tells_sources(first);
    if (!lineage_)
      for (SourceRecord& s : info_.sources) s.name = info_.name;
    uncertain_ = first.grid.carries_uncertainty();
    hold({0, 0}, {first.grid, 0});
    if (!is_url(path.native()))
      for (const Part& p : parts()) kept_.emplace_back(p.path);
  }
  const GridInfo& info() const { return info_; }
  bool carries_uncertainty() const { return uncertain_; }
  const std::vector<Part>& parts() const { return index_.parts(); }

  // A sheet with its cells doubled so often, as far as it has overviews; `left`: how often they are still to be
  // doubled.
  struct Opened {
    Grid grid;
    int left = 0;
  };
  Opened opened(std::size_t i, int times) const {
    const Key key{i, times};
    if (const auto known = held(key)) return *known;
    Opened o;
    if (times > 0) {
      o = opened(i, times - 1);
      const auto half = o.left == 0 ? o.grid.half() : std::nullopt;
      if (half)
        o.grid = *half;
      else
        ++o.left;
    } else {
      const GridFile file = open_grid_file(parts()[i].path, options_);
      if (!is_sheet(i, file)) not_the_sheet(i);
      o.grid = file.grid;
    }
    hold(key, o);
    return o;
  }

 private:
  [[noreturn]] void not_the_sheet(std::size_t i) const {
    throw Error(ErrorCode::BadFile, fmt::format("is not the sheet that {} tells of", path_.filename().string()),
                parts()[i].path.string(), "write the sheets again, or join them with mosaic");
  }
  // True when a sheet tells which tiles its cells are from.
  static bool tells_sources(const GridFile& f) {
    return !(f.grid.info().sources.size() == 1 && f.grid.info().sources[0].name == f.grid.info().name);
  }

  bool is_sheet(std::size_t i, const GridFile& file) const {
    const GridInfo& info = file.grid.info();
    const Frame expected = info_.frame.sub(parts()[i].window);
    return expected.window_of(info.frame) == expected.window() && info.quantity == info_.quantity &&
           tells_sources(file) == lineage_ && info.sources.size() == info_.sources.size() &&
           file.grid.carries_uncertainty() == uncertain_;
  }

  using Key = std::pair<std::size_t, int>;  // the number of a sheet, and how often its cells are doubled
  std::optional<Opened> held(const Key& key) const {
    std::lock_guard lock(mutex_);
    const auto known = open_.find(key);
    if (known == open_.end()) return std::nullopt;
    order_.splice(order_.begin(), order_, known->second.place);
    return known->second.opened;
  }
  void hold(const Key& key, const Opened& o) const {
    std::lock_guard lock(mutex_);
    if (open_.contains(key)) return;
    order_.push_front(key);
    open_.emplace(key, Held{o, order_.begin()});
    if (open_.size() > kMostOpen) {
      open_.erase(order_.back());
      order_.pop_back();
    }
  }

  SheetsIndex index_;
  fs::path path_;
  OpenOptions options_;
  GridInfo info_;
  bool lineage_ = false, uncertain_ = false;
  std::vector<FileToRead> kept_;  // from being written over while they are not open
  mutable std::mutex mutex_;
  mutable std::list<Key> order_;  // those read last come first
  struct Held {
    Opened opened;
    std::list<Key>::iterator place;
  };
  mutable std::map<Key, Held> open_;
};

// `times`: how often cells were doubled, for a look from afar.
class SheetsSource final : public GridSource {
 public:
  SheetsSource(std::shared_ptr<const OpenSheets> sheets, int times, GridInfo info)
      : sheets_(std::move(sheets)), times_(times), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return sheets_->carries_uncertainty(); }

  // Where all sheets begin at a doubled cell; those of few cells stop having overviews before the others do.
  std::shared_ptr<const GridSource> half() const override {
    const std::int64_t step = std::int64_t{2} << times_;
    const auto whole = [&](std::int64_t cells) { return cells % step == 0; };
    const auto& parts = sheets_->parts();
    if (std::max(info_.frame.cols(), info_.frame.rows()) < kSmallest ||
        !std::all_of(parts.begin(), parts.end(),
                     [&](const Part& p) { return whole(p.window.col) && whole(p.window.row); }))
      return nullptr;
    GridInfo info = info_;
    info.frame = half_frame(info_.frame);
    return std::make_shared<SheetsSource>(sheets_, times_ + 1, std::move(info));
  }

  void read(const BlockView& out) const override {
    const Window& w = out.window;
    // The first row of sheets that ends below the window's top.
    const auto& parts = sheets_->parts();
    auto p = std::partition_point(parts.begin(), parts.end(), [&](const Part& a) {
      const Window here = seen(a.window);
      return here.row + here.rows <= w.row;
    });
    bool blank = true;
    for (; p != parts.end() && seen(p->window).row < w.row + w.rows; ++p) {
      const Window here = seen(p->window), common = here.intersected(w);
      if (common.empty()) continue;
      if (blank && common != w) make_void(out);
      blank = false;
      BlockView view = out.part(common);
      view.window.col -= here.col;
      view.window.row -= here.row;
      read_sheet(sheets_->opened(static_cast<std::size_t>(p - parts.begin()), times_), view);
    }
    if (blank) make_void(out);
  }

 private:
  static constexpr std::int64_t kSmallest = 256;

  // A sheet's window in doubled cells; the last of an odd number reach beyond its edge.
  Window seen(const Window& w) const {
    const std::int64_t up = (std::int64_t{1} << times_) - 1;
    return {w.col >> times_, w.row >> times_, (w.cols + up) >> times_, (w.rows + up) >> times_};
  }

  static void read_sheet(const OpenSheets::Opened& sheet, const BlockView& out) {
    if (sheet.left == 0) {
      sheet.grid.read_into(out);
      return;
    }
    // One cell of those that a doubled one stands for.
    const std::int64_t step = std::int64_t{1} << sheet.left;
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r) {
      const Block row = sheet.grid.read({w.col * step, (w.row + r) * step, (w.cols - 1) * step + 1, 1}, out.planes());
      for (std::int64_t c = 0; c < w.cols; ++c) {
        out.row(r)[c] = row.row(0)[c * step];
        if (out.origin) out.origin_row(r)[c] = row.origin_row(0)[c * step];
        if (out.uncertainty) out.uncertainty_row(r)[c] = row.uncertainty_row(0)[c * step];
      }
    }
  }

  std::shared_ptr<const OpenSheets> sheets_;
  int times_;
  GridInfo info_;
};

}  // namespace

bool is_sheets_index(const fs::path& path) { return has_ending(path, kEnding); }

GridFile open_sheets(const fs::path& path, const OpenOptions& options) {
  SheetsIndex index(path);
  const std::size_t n = index.parts().size();
  const std::uint64_t bytes = index.bytes();
  GridFile file = open_grid_file(index.parts()[0].path, options);
  const auto sheets = std::make_shared<const OpenSheets>(std::move(index), path, options, file);
  file.grid = Grid(std::make_shared<SheetsSource>(sheets, 0, sheets->info()));
  file.facts.path = path;
  file.facts.bytes = bytes;
  file.facts.layout = fmt::format("{} sheet{}, each: {}", n, n == 1 ? "" : "s", file.facts.layout);
  file.facts.problems.clear();
  return file;
}

}  // namespace katoptra
