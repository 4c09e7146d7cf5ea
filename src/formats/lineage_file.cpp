#include "lineage_file.hpp"

#include <fmt/format.h>
#include <sstream>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/grid_file.hpp"

#include "base/csv.hpp"
#include "readers.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

fs::path table_path_for(const fs::path& path) { return lineage_path_for(path).replace_extension(".csv"); }

// Values of one grid, origins of another.
class TracedSource final : public GridSource {
 public:
  TracedSource(Grid values, Grid codes, GridInfo info)
      : values_(std::move(values)), codes_(std::move(codes)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return values_.carries_uncertainty(); }
  void expect(const Window& w) const override { values_.expect(w); }
  void read(const BlockView& out) const override {
    BlockView plain = out;
    plain.origin = nullptr;
    values_.read_into(plain);
    if (!out.origin) return;
    const Block codes = codes_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        const float code = codes.row(r)[c];
        out.origin_row(r)[c] = std::isnan(code) || std::isnan(out.row(r)[c]) ? 0 : static_cast<Origin>(code);
      }
  }

 private:
  Grid values_, codes_;
  GridInfo info_;
};

}  // namespace

void write_lineage_table(const fs::path& path, const GridInfo& info, bool overwrite) {
  std::string text = "code,source,how,survey,date,date_guessed,cell_m,treatment\n";
  for (std::uint32_t i = 1; i <= info.sources.size(); ++i) {
    const SourceRecord& s = info.sources[i - 1];
    for (How how : kHows)
      text += fmt::format("{},{},{},{},{},{},{:.6g},{}\n", origin_code(i, how), csv_field(s.name), name_of(how),
                          csv_field(s.survey), s.date, s.date_guessed ? 1 : 0, s.cell.metres(), csv_field(s.treatment));
  }
  write_text_file(table_path_for(path), text, {.overwrite = overwrite});
}

void remove_lineage_beside(const fs::path& path) {
  std::error_code ignored;
  fs::remove(lineage_path_for(path), ignored);
  fs::remove(table_path_for(path), ignored);
}

std::optional<Grid> open_lineage_beside(const fs::path& path, const Grid& grid) {
  std::error_code ec;
  const fs::path codes_path = lineage_path_for(path), table_path = table_path_for(path);
  if (!fs::exists(codes_path, ec) || !fs::exists(table_path, ec)) return std::nullopt;
  const GridFile codes = open_tiff(locate(codes_path), {});
  const auto same = grid.frame().window_of(codes.grid.frame());
  if (!same || !(*same == grid.frame().window())) return std::nullopt;
  GridInfo info = grid.info();
  info.sources.clear();
  const auto rows = parse_csv(read_text_file(table_path));
  for (std::size_t i = 1; i < rows.size(); ++i) {
    const auto& r = rows[i];
    if (r.size() < 8) return std::nullopt;
    // Each source has a line for every way a cell can have come from it.
    if (r[2] != name_of(How::Measured)) continue;
    info.sources.push_back({.name = r[1],
                            .survey = r[3],
                            .date = r[4],
                            .date_guessed = r[5] == "1",
                            .cell = Length::metres(parse_number(r[6]).value_or(0)),
                            .treatment = r[7]});
  }
  return Grid(std::make_shared<TracedSource>(grid, codes.grid, std::move(info)));
}

}  // namespace katoptra
