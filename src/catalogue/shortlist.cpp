// Shortlists as files: CSV that a person may edit, GeoJSON for maps; both are read back.
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/vector_file.hpp"

#include "base/csv.hpp"
#include "base/text.hpp"
#include "box_text.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;

std::string shortlist_head() {
  return "kept,path,survey,date,date_guessed,kind,format,cell_m,density,crs,heights,unit,bytes,checksum,licence,access,"
         "custodian,covered_fraction,reason,west,south,east,north\n";
}

std::string shortlist_row(const ShortlistTile& t) {
  const TileRecord& r = t.tile;
  return fmt::format("{},{},{},{},{},{},{},{:.4g},{:.4g},{},{},{},{},{},{},{},{},{:.6f},{},{}\n", t.kept ? 1 : 0,
                     csv_field(r.path.string()), csv_field(r.survey), csv_field(r.date), r.date_guessed ? 1 : 0,
                     name_of(r.kind), csv_field(r.format), r.spacing.y.metres(), r.density,
                     r.frame ? csv_field(r.frame->crs().label()) : "", csv_field(r.quantity.heights.name()),
                     r.quantity.unit_known ? symbol(r.quantity.unit) : "", r.bytes, csv_field(r.checksum),
                     csv_field(r.licence), name_of(r.access), csv_field(r.custodian), t.covered_fraction,
                     csv_field(t.reason), box_text(r.globe_box()));
}

std::string shortlist_csv(const Shortlist& s) {
  std::string text = shortlist_head();
  for (const ShortlistTile& t : s.tiles) text += shortlist_row(t);
  return text;
}

Layer shortlist_layer(const Shortlist& s) {
  Layer layer{.name = "shortlist", .crs = s.area.crs(), .features = {}};
  for (const ShortlistTile& t : s.tiles) {
    if (t.footprint.empty()) continue;
    const TileRecord& r = t.tile;
    layer.features.push_back({t.footprint,
                              {{"role", std::string("tile")},
                               {"kept", std::int64_t{t.kept}},
                               {"path", r.path.string()},
                               {"survey", r.survey},
                               {"date", r.date},
                               {"date_guessed", std::int64_t{r.date_guessed}},
                               {"bytes", static_cast<std::int64_t>(r.bytes)},
                               {"checksum", r.checksum},
                               {"licence", r.licence},
                               {"access", std::string(name_of(r.access))},
                               {"custodian", r.custodian},
                               {"crs", r.frame ? r.frame->crs().label() : std::string()},
                               {"heights", r.quantity.heights.known() ? r.quantity.heights.name() : std::string()},
                               {"unit", std::string(r.quantity.unit_known ? symbol(r.quantity.unit) : "")},
                               {"reason", t.reason},
                               {"covered_fraction", t.covered_fraction}}});
  }
  for (const Gap& g : s.gap_list)
    layer.features.push_back({g.shape,
                              {{"role", std::string("gap")},
                               {"kept", std::int64_t{0}},
                               {"area_m2", g.area},
                               {"closed_by", g.closed_by},
                               {"reason", g.closed_by.empty() ? std::string("no survey covers this") : g.how}}});
  return layer;
}

namespace {

constexpr const char* kAdvice = "make one with find -o list.csv";

void check(ShortlistEntry& e, const std::string& access, const std::string& bytes, const fs::path& file) {
  // Text of a catalogue that is not what its column holds says nothing.
  const auto keep_if = [](std::string& text, bool good) {
    if (!good) text.clear();
  };
  keep_if(e.date, e.date.size() == 10 && e.date[4] == '-' && e.date[7] == '-' &&
                      e.date.find_first_not_of("0123456789-") == std::string::npos);
  keep_if(e.checksum,
          e.checksum.size() % 2 == 0 && e.checksum.find_first_not_of("0123456789abcdef") == std::string::npos);
  keep_if(e.unit, e.unit == "m" || e.unit == "ft" || e.unit == "ftUS");
  keep_if(e.heights, e.heights != "unknown");
  if (e.path.empty()) throw Error(ErrorCode::BadFile, "has a kept row without a path", file.string(), kAdvice);
  // Paths count from where one is, as they were written; of a list that was moved with its files, from beside it.
  std::error_code ec;
  if (const fs::path beside = file.parent_path() / e.path;
      e.path.is_relative() && !is_url(e.path.native()) && !fs::exists(e.path, ec) && fs::exists(beside, ec))
    e.path = beside;
  if (!access.empty()) e.access = parse_access(access);
  if (const auto b = parse_number(bytes); b && *b >= 0 && *b < 9e15) e.bytes = static_cast<std::uint64_t>(*b);
}

std::vector<ShortlistEntry> from_geojson(const std::string& text, const fs::path& path) {
  const json root = parse_json(text, path.string());
  if (!member(root, "features").is_array())
    throw Error(ErrorCode::BadFile, "is not a shortlist", path.string(), kAdvice);
  std::vector<ShortlistEntry> out;
  for (const json& f : root["features"]) {
    const json& p = member(f, "properties");
    const json& kept = member(p, "kept");
    if (!(kept.is_number() && kept.get<double>() == 1) && !(kept.is_boolean() && kept.get<bool>())) continue;
    ShortlistEntry e{.path = word(p, "path"),
                     .survey = word(p, "survey"),
                     .date = word(p, "date"),
                     .checksum = word(p, "checksum"),
                     .licence = word(p, "licence"),
                     .custodian = word(p, "custodian"),
                     .crs = word(p, "crs"),
                     .heights = word(p, "heights"),
                     .unit = word(p, "unit"),
                     .date_guessed = number(p, "date_guessed") == 1};
    e.box = bounds_of(polygons_of(member(f, "geometry"), path.string()));
    check(e, word(p, "access"), fmt::format("{:.0f}", number(p, "bytes")), path);
    out.push_back(std::move(e));
  }
  return out;
}

}  // namespace

std::vector<ShortlistEntry> read_shortlist(const fs::path& path) {
  const std::string text = read_text_file(path);
  const std::string ext = lower_extension(path);
  if (ext == ".geojson" || ext == ".json") return from_geojson(text, path);
  // A person may have struck rows, set kept to 0, moved columns, or saved the table with semicolons.
  const bool semicolons = text.substr(0, text.find('\n')).find(';') != std::string::npos;
  const auto rows = parse_csv(text, semicolons ? ';' : ',');
  auto column = [&](const char* name) {
    if (rows.empty()) return std::string::npos;
    const auto f = std::find_if(rows[0].begin(), rows[0].end(), [&](std::string c) {
      return (c.starts_with("\xEF\xBB\xBF") ? c.substr(3) : c) == name;
    });
    return f == rows[0].end() ? std::string::npos : static_cast<std::size_t>(f - rows[0].begin());
  };
  if (column("kept") == std::string::npos || column("path") == std::string::npos)
    throw Error(ErrorCode::BadFile, "is not a shortlist: its first line names no columns kept and path", path.string(),
                kAdvice);
  std::vector<ShortlistEntry> out;
  for (std::size_t r = 1; r < rows.size(); ++r) {
    auto field = [&](const char* name) {
      const std::size_t c = column(name);
      return c < rows[r].size() ? rows[r][c] : std::string();
    };
    if (field("kept") != "1") continue;
    ShortlistEntry e{.path = field("path"),
                     .survey = field("survey"),
                     .date = field("date"),
                     .checksum = lower_case(field("checksum")),
                     .licence = field("licence"),
                     .custodian = field("custodian"),
                     .crs = field("crs"),
                     .heights = field("heights"),
                     .unit = field("unit"),
                     .date_guessed = field("date_guessed") == "1"};
    check(e, field("access"), field("bytes"), path);
    const auto west = parse_number(field("west")), south = parse_number(field("south")),
               east = parse_number(field("east")), north = parse_number(field("north"));
    if (west && south && east && north) e.box = {*west, *south, *east, *north};
    out.push_back(std::move(e));
  }
  return out;
}

}  // namespace katoptra
