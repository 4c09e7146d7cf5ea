// Opening grids: the reader by content, then what all formats have in common.
#include "katoptra/formats/grid_file.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <sys/stat.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/archive.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/grid/uncertainty.hpp"

#include "base/text.hpp"
#include "format_row.hpp"
#include "formats/text/text_scan.hpp"
#include "lineage_file.hpp"
#include "readers.hpp"
#include "rows_source.hpp"
#include "sheets_read.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

GridFile open_located(const Located& file, const OpenOptions& options) {
  const FormatRow* row = row_recognising(file);
  if (row && row->open_grid) return row->open_grid(file, options);
  if (row && row->open_points)
    throw Error(ErrorCode::BadFile, "holds points and no grid", file.bytes->name(), "make a surface of them with grid");
  throw Error(ErrorCode::BadFile, "is not in a grid format that is read here", file.bytes->name(),
              "give a GeoTIFF, HGT, DTED, ASCII grid, flat binary with its .hdr, NetCDF, BAG or XYZ file, or an "
              "archive of one");
}

}  // namespace

std::string file_date(const fs::path& path) {
  struct stat st {};
  if (::stat(path.c_str(), &st) != 0) return {};
  return fmt::format("{:%Y-%m-%d}", fmt::gmtime(st.st_mtime));
}

namespace {

// ------------------------------------------------------------------------------------------- what lies beside a file

// A .prj of the older kind has keywords instead of WKT: "Projection UTM", "Zone 25", "Datum WGS84" ...
Crs crs_from_keywords(const std::string& text) {
  auto keys = keyword_lines(text);
  struct Datum {
    const char* name;
    int geographic, north, south;  // EPSG codes; those of UTM without the zone
  };
  static constexpr Datum kDatums[] = {{"wgs84", 4326, 32600, 32700}, {"wge", 4326, 32600, 32700},
                                      {"nad83", 4269, 26900, 0},     {"nar-c", 4269, 26900, 0},
                                      {"nad27", 4267, 26700, 0},     {"nas-c", 4267, 26700, 0}};
  for (const Datum& d : kDatums) {
    if (keys["datum"] != d.name) continue;
    if (keys["projection"] == "geographic") return Crs::parse(fmt::format("EPSG:{}", d.geographic));
    const auto zone = parse_number(keys["zone"]);
    if (keys["projection"] != "utm" || !zone || std::abs(*zone) < 1 || std::abs(*zone) > 60) return {};
    const bool south = *zone < 0 || parse_number(keys["yshift"]).value_or(0) != 0;
    if (south && !d.south) return {};
    return Crs::parse(fmt::format("EPSG:{}", (south ? d.south : d.north) + static_cast<int>(std::abs(*zone))));
  }
  return {};
}

void use_prj(const Located& located, GridInfo& info, FileFacts& facts) {
  const auto text = located.text_with_extension(".prj");
  if (!text || info.frame.crs()) return;
  Crs crs;
  try {
    crs = Crs::parse(*text);
  } catch (const Error&) {
    crs = crs_from_keywords(*text);
  }
  if (!crs) {
    facts.problems.push_back("the .prj file beside it is not understood");
    return;
  }
  facts.beside.push_back(".prj");
  info.frame = info.frame.with_crs(crs.with_heights({}));
  Quantity& q = info.quantity;
  if (q.kind == QuantityKind::Height && !q.heights.known() && crs.heights().known()) {
    q.heights = crs.heights();
    if (!q.unit_known && !q.heights.is_ellipsoid()) {
      q.unit = q.heights.unit();
      q.unit_known = true;
    }
  }
}

struct Beside {
  std::optional<double> void_value;
  double zero = 0, step = 1;
  bool depths = false;
};

Beside use_json(const Located& located, GridInfo& info, FileFacts& facts) {
  Beside b;
  const auto text = located.text_with_extension(".json");
  if (!text) return b;
  const auto j = nlohmann::json::parse(*text, nullptr, false);
  if (!j.is_object()) return b;
  auto word = [&](const char* key) { return j.contains(key) && j[key].is_string() ? j[key].get<std::string>() : ""; };
  auto number = [&](const char* key) {
    return j.contains(key) && j[key].is_number() ? std::optional(j[key].get<double>()) : std::nullopt;
  };
  bool used = false;
  Quantity& q = info.quantity;
  try {
    if (!info.frame.crs() && !word("crs").empty())
      info.frame = info.frame.with_crs(Crs::parse(word("crs"))), used = true;
    if (!word("quantity").empty()) {
      q.kind = quantity_kind_from(word("quantity"));
      used = true;
      if (q.kind != QuantityKind::Height) use_unit(q, word("unit"));
    }
    if (q.kind == QuantityKind::Height && !q.heights.known() && !word("heights").empty())
      q.heights = HeightReference::parse(word("heights")), used = true;
    if (q.kind == QuantityKind::Height && !q.unit_known && !word("unit").empty()) {
      q.unit = parse_length_unit(word("unit"));
      q.unit_known = used = true;
    }
  } catch (const Error& e) {
    facts.problems.push_back("the .json file beside it: " + e.problem());
  }
  if (const std::string date = word("date"); date.size() == 10 && facts.date.empty()) facts.date = date, used = true;
  if (facts.survey.empty() && !word("survey").empty()) facts.survey = word("survey"), used = true;
  b.void_value = number("void");
  b.zero = number("zero").value_or(0);
  b.step = number("step").value_or(1);
  b.depths = j.contains("depths") && j["depths"].is_boolean() && j["depths"].get<bool>();
  if (used || b.void_value || b.zero != 0 || b.step != 1 || b.depths) facts.beside.push_back(".json");
  return b;
}

// ------------------------------------------------------------------------------------------------- what was assigned

void assign(GridInfo& info, const FileFacts& facts, const OpenOptions& options) {
  // The vertical part of a compound system is an assignment like any other.
  HeightReference heights = options.heights.value_or(HeightReference());
  if (options.crs) {
    if (const HeightReference& part = options.crs->heights(); part.known()) {
      if (heights.known() && !(heights == part))
        throw Error(
            ErrorCode::BadArgument,
            fmt::format("heights above {} and, by the CRS, above {} were assigned", heights.name(), part.name()),
            facts.path.string(), "give one of them");
      heights = part;
    }
    if (!info.frame.crs())
      info.frame = info.frame.with_crs(options.crs->with_heights({}));
    else if (!info.frame.crs().same_place(*options.crs))
      throw Error(ErrorCode::Refused,
                  fmt::format("is in {}, and {} was assigned", info.frame.crs().label(), options.crs->label()),
                  facts.path.string(), "to move it there use reproject");
  }
  Quantity& q = info.quantity;
  if (q.kind != QuantityKind::Height) return;
  if (heights.known()) {
    if (!q.heights.known())
      q.heights = heights;
    else if (!(q.heights == heights))
      throw Error(ErrorCode::Refused,
                  fmt::format("its heights are above {}, and {} was assigned", q.heights.name(), heights.name()),
                  facts.path.string(), "leave the assignment out; to convert name it with --heights");
  }
  if (q.unit_known) return;
  // A system that counts in feet says the unit, too; one in metres is often named for its datum alone.
  if (options.unit || (heights.known() && heights.unit() != LengthUnit::Metre)) {
    q.unit = options.unit.value_or(heights.unit());
    q.unit_known = true;
  }
}

// Longitudes belong between -180 and 180. A grid that counts from 0 to 360 is told so; a whole globe is cut at 180
// degrees, and one that crosses that meridian keeps counting on.
Grid at_usual_longitudes(const Grid& grid) {
  const Frame& f = grid.frame();
  const double cell = f.cell().x;
  if (!f.crs().is_geographic() || (f.west() >= -180 - cell && f.east() <= 180 + cell)) return grid;
  const bool crosses = f.west() < 180 - cell && f.east() > 180 + cell && f.east() - f.west() < 360 - 0.5 * cell;
  return crosses ? grid : around_longitude(grid, 0);
}

// What is said of the uncertainty, where the file itself says nothing.
Grid with_stated_uncertainty(const Grid& given, const fs::path& path, const FileFacts& facts,
                             const OpenOptions& options) {
  const auto& [text, confidence, reach] = options.uncertainty;
  const double times = options.uncertainty.times();
  const std::string& name = given.info().name;
  Grid sure = given;
  if (given.carries_uncertainty()) {
    // Our own files hold one standard uncertainty, whatever others are told with.
    if (times != 1 && !facts.ours) sure = with_uncertainty(given, uncertainty_of(given), times);
    if (!text.empty())
      sure = relabelled(sure, [&, said = text](GridInfo& info) {
        info.notes.push_back(
            fmt::format("{}: has an uncertainty of its own, which is taken instead of {}", name, said));
      });
  } else if (text.starts_with("band:")) {
    OpenOptions band{.band = text.substr(5)};
    band.crs = options.crs;
    sure = with_uncertainty(given, open_grid_file(path, band).grid, times);
  } else if (std::error_code ec; text.find_first_of("./") != text.npos && fs::exists(text, ec)) {
    sure = with_uncertainty(given, open_grid_file(text, {.crs = options.crs}).grid, times);
  } else if (!text.empty()) {
    UncertaintyModel model = parse_uncertainty(text);
    if (model.times == 1) model.times = times;  // an order of survey is told at 95 % whatever others are
    sure = with_uncertainty(given, model);
  }
  return reach && sure.carries_uncertainty() && !sure.info().error_reach ? with_error_reach(sure, reach) : sure;
}

}  // namespace

double StatedUncertainty::times() const {
  if (confidence == 68 || confidence == 68.3) return 1;
  if (confidence == 95) return 1 / kTwoSided95;
  throw Error(ErrorCode::BadArgument, fmt::format("{} is no confidence that uncertainties are told with", confidence),
              "confidence", "give 68 (one standard uncertainty) or 95");
}

bool complete_references(const Located& located, GridInfo& info, FileFacts& facts, const OpenOptions& options) {
  use_prj(located, info, facts);
  const bool depths = use_json(located, info, facts).depths;
  assign(info, facts, options);
  return depths;
}

StatedUncertainty StatedUncertainty::otherwise(const StatedUncertainty& other) const {
  StatedUncertainty all = text.empty() ? other : *this;
  all.reach = reach ? reach : other.reach;
  return all;
}

void use_unit(Quantity& q, const std::string& unit) {
  for (const LengthUnit u : {LengthUnit::Metre, LengthUnit::Foot, LengthUnit::UsFoot})
    if (is_length(q.kind) && unit == symbol(u)) {
      q.unit = u;
      q.unit_known = true;
      return;
    }
  q.other_unit = unit;
}

std::int64_t band_from(const OpenOptions& options, std::int64_t bands, const std::string& file) {
  if (options.band.empty()) return 0;
  const auto n = parse_number(options.band);
  if (!n || *n < 1 || *n > static_cast<double>(bands) || *n != std::floor(*n))
    throw Error(ErrorCode::BadArgument, fmt::format("has no band '{}'", options.band), file,
                fmt::format("it has {}, numbered from 1", bands));
  return static_cast<std::int64_t>(*n) - 1;
}

GridFile open_grid_file(const Located& located, const fs::path& path, const OpenOptions& options) {
  GridFile file = open_located(located, options);
  FileFacts& facts = file.facts;
  facts.path = path;
  facts.bytes = located.bytes->size();
  if (facts.compression.empty()) facts.compression = "none";
  if (!located.packing.empty())
    facts.compression = located.packing + (facts.compression == "none" ? "" : ", " + facts.compression);
  if (facts.bands.size() > 1 && facts.band.empty()) facts.band = options.band.empty() ? "1" : options.band;
  Beside beside;
  file.grid = relabelled(file.grid, [&](GridInfo& info) {
    info.name = is_url(path.native()) ? url_file_name(path.native()) : path.filename().string();
    use_prj(located, info, facts);
    beside = use_json(located, info, facts);
    assign(info, facts, options);
    // The uncertainty comes along and is no choice that was made.
    const auto to_choose = static_cast<std::ptrdiff_t>(facts.bands.size()) -
                           std::count(facts.bands.begin(), facts.bands.end(), "uncertainty");
    if (to_choose > 1)
      info.notes.push_back(fmt::format("it has {} values a cell; {} is taken", facts.bands.size(),
                                       options.band.empty() ? "the first" : "'" + options.band + "'"));
  });
  if (facts.date.empty()) {
    facts.date = located.bytes->changed();
    if (facts.date.empty()) facts.date = file_date(located.on_disk);
    facts.date_guessed = true;
  }
  const GridInfo plain = file.grid.info();
  if (beside.void_value) file.grid = with_void(file.grid, *beside.void_value);
  if (beside.zero != 0 || beside.step != 1)
    file.grid = scaled(file.grid, beside.step, beside.zero, [&](GridInfo& info) {
      info.notes.push_back(
          fmt::format("value = {:g} + sample x {:g}, says the .json beside it", beside.zero, beside.step));
    });
  if (options.void_value) file.grid = with_void(file.grid, *options.void_value);
  const bool counts_down = file.grid.quantity().kind == QuantityKind::Height && file.grid.quantity().heights.is_depth();
  if ((options.depths || beside.depths || counts_down) && !facts.depths_turned) {
    file.grid = depths_as_heights(file.grid);
    facts.depths_turned = true;
  }
  if (counts_down)
    file.grid =
        relabelled(file.grid, [](GridInfo& info) { info.quantity.heights = info.quantity.heights.as_heights(); });
  file.grid = at_usual_longitudes(file.grid);
  file.grid = relabelled(file.grid, [&](GridInfo& info) {
    info.sources = {{.name = info.name,
                     .survey = facts.survey,
                     .date = facts.date,
                     .date_guessed = facts.date_guessed,
                     .cell = ground_spacing(info.frame).y,
                     .treatment = facts.depths_turned ? "depths turned" : ""}};
    if (info.type == plain.type) info.file_void = plain.file_void;
    if (options.void_value && !info.file_void) info.file_void = options.void_value;
  });
  if (is_length(file.grid.quantity().kind)) file.grid = with_stated_uncertainty(file.grid, path, facts, options);
  return file;
}

GridFile open_grid_file(const fs::path& path, const OpenOptions& options) {
  if (is_sheets_index(path)) return open_sheets(path, options);
  GridFile file = open_grid_file(locate(path), path, options);
  if (auto lineage = open_lineage_beside(path, file.grid)) file.grid = *lineage;
  return file;
}

Grid open_grid(const fs::path& path, const OpenOptions& options) { return open_grid_file(path, options).grid; }

bool looks_like_grid(const fs::path& path) {
  try {
    if (lower_extension(path) == ".hdr") return false;  // the data beside it are the grid
    if (is_sheets_index(path)) return true;
    auto bytes = open_file(path);
    if (Archive::is_archive(*bytes)) return grids_behind(path) != std::vector{path};
    const Located file = as_it_stands(std::move(bytes), path);
    const FormatRow* row = row_recognising(file);
    return row && row->open_grid && (row->facts.sure || row->facts.ends(file.name));
  } catch (const Error&) {
    return false;
  }
}

fs::path lineage_path_for(const fs::path& path) {
  const std::string ext = lower_extension(path);
  const fs::path name = ext == ".tif" || ext == ".tiff" ? path.stem() : path.filename();
  return path.parent_path() / (name.string() + ".lineage.tif");
}

}  // namespace katoptra
