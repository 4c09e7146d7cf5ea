#include "common.hpp"

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fmt/format.h>
#include <map>
#include <sstream>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/places.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/grid/cache.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"

namespace katoptra::cli {
namespace {
bool g_show_progress = false;
}

int exit_status(ErrorCode code) {
  switch (code) {
    case ErrorCode::BadArgument:
      return 2;
    case ErrorCode::Io:
    case ErrorCode::Network:
      return 4;
    case ErrorCode::Cancelled:
      return 130;
    default:
      return 3;
  }
}

void show_progress(bool on) { g_show_progress = on; }

Progress& progress() {
  static Progress p([](double done) {
    if (!g_show_progress) return;
    std::fprintf(stderr, "\r%3.0f %%%s", 100 * done, done >= 1 ? "\r      \r" : "");
  });
  return p;
}

namespace {

constexpr std::size_t kMiB = std::size_t{1} << 20;

// What of a budget is for decoded blocks of the input: a larger cache makes nothing faster that reads it in order.
std::size_t usual_cache(std::size_t memory) { return memory / 8 * 3; }

// Where work in bands takes a quarter of the budget: a row of tiles 40,000 cells wide stays decoded in a small one, and
// in a large one, beyond what there is to do, all that was read once.
std::size_t cache_beside_bands(std::size_t memory) {
  constexpr std::size_t kRowOfTiles = 96 * kMiB, kWork = 320 * kMiB;
  return std::min(memory / 4 * 3, std::max({usual_cache(memory), kRowOfTiles, memory > kWork ? memory - kWork : 0}));
}

}  // namespace

RunOptions Common::run_in_bands() const {
  RunOptions r = run();
  r.memory *= 2;
  BlockCache::shared().set_budget(cache_beside_bands(r.memory));
  return r;
}

RunOptions Common::run() const {
  RunOptions r;
  r.threads = threads;
  r.memory = std::max<std::size_t>(parse_bytes(memory), 32 * kMiB);
  BlockCache::shared().set_budget(usual_cache(r.memory));
  r.memory /= 2;
  r.progress = &progress();
  show_progress(!quiet && !json && ::isatty(2));
  return r;
}

OpenOptions Common::open_options() const {
  OpenOptions o;
  if (!from_crs.empty()) o.crs = Crs::parse(from_crs);
  if (!crs.empty()) o.crs = Crs::parse(crs);
  if (!from_heights.empty()) o.heights = HeightReference::parse(from_heights);
  if (!from_unit.empty()) o.unit = parse_length_unit(from_unit);
  o.void_value = from_void;
  o.uncertainty = {.text = uncertainty, .confidence = confidence, .reach = {}};
  o.uncertainty.times();
  if (!error_reach.empty()) o.uncertainty.reach = Length::parse(error_reach);
  o.depths = depths;
  o.band = band;
  o.columns = columns;
  if (delimiter == "tab")
    o.delimiter = '\t';
  else if (delimiter == "blank")
    o.delimiter = ' ';
  else if (!delimiter.empty())
    o.delimiter = delimiter[0];
  return o;
}

WriteOptions Common::write_options() const {
  WriteOptions o{.overwrite = overwrite, .void_value = void_value, .date = {}, .survey = {}, .run = run()};
  o.codec = codec == "deflate" ? Codec::Deflate
            : codec == "zstd"  ? Codec::Zstd
            : codec == "none"  ? Codec::None
                               : Codec::Automatic;
  o.predictor = predictor == "none"         ? Predictor::None
                : predictor == "difference" ? Predictor::Difference
                : predictor == "float"      ? Predictor::FloatingPoint
                                            : Predictor::Automatic;
  o.uncertainty = !no_uncertainty;
  return o;
}

void say_lines(CLI::App& verb, const std::string& before) {
  verb.get_option("--out")->description("where to write; its end decides the form: " + before + endings_of_lines());
}

void add_output(CLI::App& verb, Common& c, bool required) {
  auto* o =
      verb.add_option("-o,--out", c.out, "where to write; the extension decides the format")->group(kOutputOptions);
  if (required) o->required();
  verb.add_flag("--overwrite", c.overwrite, "replace a file that is there")->group(kOutputOptions);
}

void add_reading(CLI::App& verb, Common& c, Reading reading) {
  const bool converts = reading != Reading::Assigns;
  if (reading == Reading::Moves)
    verb.add_option("--from-crs", c.from_crs, "the CRS of input that does not say, e.g. EPSG:32725")
        ->group(kInputOptions);
  else
    verb.add_option("--crs", c.crs, "the CRS of input that does not say, e.g. EPSG:32725")->group(kInputOptions);
  verb.add_option("--heights", converts ? c.heights : c.from_heights,
                  converts ? "the vertical reference to have heights above: input that states another is converted, "
                             "input that states none is taken to be in it"
                           : "the vertical reference of input that does not say, e.g. EGM2008")
      ->group(converts ? kOwnOptions : kInputOptions);
  verb.add_option("--unit", converts ? c.unit : c.from_unit,
                  converts ? "the unit to have heights in (m, ft, ftUS): input is converted; what states none is taken "
                             "to be in --from-unit, else in metres"
                           : "the unit of heights of input that does not say: m, ft, ftUS")
      ->group(converts ? kOwnOptions : kInputOptions);
  if (converts) {
    verb.add_option("--from-heights", c.from_heights,
                    "the vertical reference of input that does not say, if not --heights")
        ->group(kInputOptions);
    verb.add_option("--from-unit", c.from_unit,
                    "the unit of input that does not say (metres are taken for granted otherwise)")
        ->group(kInputOptions);
    verb.add_option("--shift", c.shift, "added to heights: a length (-0.18m) or a separation surface (a grid)");
  }
  add_network(verb, c);
  verb.add_option("--from-void", c.from_void, "a value of the input that stands for a void and is not declared")
      ->group(kInputOptions);
  verb.add_flag("--depths", c.depths, "values of the input are depths, positive down")->group(kInputOptions);
  verb.add_option("--band", c.band, "which of several values a cell: its number from 1, or its name")
      ->group(kInputOptions);
  verb.add_option("--columns", c.columns, "XYZ text: which columns are x, y and z, e.g. 1,2,4 or east,north,z")
      ->group(kInputOptions);
  verb.add_option("--delimiter", c.delimiter, "XYZ text: what stands between columns: , ; tab blank")
      ->check(CLI::IsMember({",", ";", "tab", "blank", " "}))
      ->option_text("CHAR")
      ->group(kInputOptions);
}

void add_confidence(CLI::App& verb, Common& c) {
  verb.add_option("--confidence", c.confidence,
                  "what uncertainties are told with: 68 (one standard uncertainty, default) or 95")
      ->group(kInputOptions);
}

void add_uncertainty(CLI::App& verb, Common& c) {
  verb.add_option("--uncertainty", c.uncertainty,
                  "how sure the values are, of input that does not say: 0.05m, 0.05m+0.2m*slope, 0.25m+0.0075*depth, a "
                  "grid on the same cells, or band:2")
      ->group(kInputOptions);
  add_confidence(verb, c);
  verb.add_option("--error-reach", c.error_reach,
                  "how far errors go together on the ground; 0m: noise from cell to cell (default: not known)")
      ->group(kInputOptions);
}

void add_leaving_out(CLI::App& verb, Common& c) {
  verb.add_flag("--no-uncertainty", c.no_uncertainty, "leave the uncertainty out of what is written")
      ->group(kOutputOptions);
}

void add_area(CLI::App& verb, Common& c, bool required) {
  auto* o = verb.add_option("--area", c.area,
                            "box:W,S,E,N, circle:LON,LAT,RADIUS (@CRS behind it), a vector file or like:FILE");
  if (required) o->required();
  verb.add_option("--margin", c.margin, "this much around the area, e.g. 50m");
}

void add_writing(CLI::App& verb, Common& c) {
  verb.add_option("--void", c.void_value, "the void value to write")->group(kOutputOptions);
  verb.add_option("--codec", c.codec, "how a GeoTIFF is packed: auto (by trial), deflate, zstd, none")
      ->check(CLI::IsMember({"auto", "deflate", "zstd", "none"}))
      ->group(kOutputOptions);
  verb.add_option("--predictor", c.predictor, "its predictor: auto (by trial), none, difference, float")
      ->check(CLI::IsMember({"auto", "none", "difference", "float"}))
      ->group(kOutputOptions);
  verb.add_flag("--dry-run", c.dry_run, "say what would be made")->group(kOutputOptions);
}

void add_running(CLI::App& verb, Common& c) {
  verb.add_option("--threads", c.threads, "threads to use; 0: all cores")
      ->check(CLI::Range(0, 1024))
      ->group(kRunningOptions);
  verb.add_option("--memory", c.memory, "memory for blocks, e.g. 512M")->group(kRunningOptions);
  verb.add_flag("--json", c.json, "the statement as JSON and nothing else")->group(kRunningOptions);
  verb.add_flag("--quiet", c.quiet, "no statement, no progress")->group(kRunningOptions);
}

namespace {

Gazetteer gazetteer_for(const Places& places, const std::string& place) {
  namespace fs = std::filesystem;
  if (!places.gazetteer.empty()) return read_gazetteer(places.gazetteer);
  if (const char* named = std::getenv("KATOPTRA_GAZETTEER"); named && *named) return read_gazetteer(named);
  std::vector<fs::path> folders = {""};
  for (const std::string& f : places.folders) folders.emplace_back(f);
  std::error_code ec;
  for (const fs::path& f : folders)
    if (fs::is_regular_file(f / "gazetteer.geojson", ec)) return read_gazetteer(f / "gazetteer.geojson");
  throw Error(ErrorCode::MissingResource, fmt::format("no list of places is known, so '{}' cannot be looked up", place),
              "--area", "name a gazetteer (GeoJSON) with --gazetteer or KATOPTRA_GAZETTEER, or give a box");
}

}  // namespace

Area area_from(const std::string& text, std::vector<std::string>* notes, const Places& places) {
  if (text.starts_with("box:") || text.starts_with("circle:")) return parse_area(text, notes);
  if (text.starts_with("like:")) {
    const Grid g = open_grid(text.substr(5));
    if (!g.frame().crs())
      throw Error(ErrorCode::Refused, "has no coordinate reference system, so it gives no area", text.substr(5),
                  "name another");
    return Area::box(g.frame().bounds(), g.frame().crs());
  }
  if (text.starts_with("place:")) {
    // The margin is added by the verb, so a point only needs to be an area at all.
    std::optional<Length> reach;
    if (!places.margin.empty()) reach = Length::metres(0.01);
    return gazetteer_for(places, text.substr(6)).area_of(text.substr(6), reach);
  }
  if (text.starts_with("sheet:")) {
    if (!places.tiles)
      throw Error(ErrorCode::BadArgument, "sheets are known to find only, where --in names their catalogue",
                  places.option, "give like:FILE or a box here");
    return sheet_area(places.tiles(), text.substr(6));
  }
  std::string path = text;
  if (!std::filesystem::exists(path))
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is neither an area nor a file", text), places.option,
                "write box:W,S,E,N, circle:LON,LAT,RADIUS, place:NAME or like:FILE, or name a vector file");
  return read_area(path);
}

namespace {
HttpAccess& access() {
  static HttpAccess a;
  return a;
}
std::string the_host(const std::string& text) { return is_url(text) ? host_of(text) : host_of("http://" + text); }

// One key for all hosts that are named, or lines of host and key.
void read_keys(const std::string& file) {
  std::istringstream lines(read_text_file(file, 1 << 16));
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string a, b;
    if (!(words >> a) || a.starts_with('#')) continue;
    if (words >> b)
      access().keys[the_host(a)] = b;
    else
      access().keys[""] = a;
  }
}
}  // namespace

const HttpAccess& http_access() { return access(); }

void name_host(const std::string& text) {
  if (!access().hosts.insert(the_host(text)).second) return;
  set_http_client(make_http_client(access()));
}

void name_hosts_of(int argc, char** argv) {
  if (const char* key = std::getenv("KATOPTRA_KEY"); key && *key) access().keys[""] = key;
  for (int i = 1; i < argc; ++i) {
    const std::string word = argv[i];
    auto value = [&](const std::string& option) -> std::string {
      if (word == option && i + 1 < argc) return argv[i + 1];
      return word.starts_with(option + "=") ? word.substr(option.size() + 1) : std::string();
    };
    if (is_url(word)) name_host(word);
    if (word.starts_with("like:") && is_url(word.substr(5))) name_host(word.substr(5));
    if (const std::string host = value("--host"); !host.empty()) name_host(host);
    if (const std::string file = value("--key-file"); !file.empty()) read_keys(file);
  }
  if (!access().hosts.empty()) set_http_client(make_http_client(access()));
}

void add_network(CLI::App& verb, Common& c) {
  verb.add_option("--host", c.hosts, "other hosts whose files may be used, beside those in addresses you give")
      ->group(kRunningOptions);
  verb.add_option("--key-file", c.key_file, "a file with the key for those hosts (or KATOPTRA_KEY); never logged")
      ->group(kRunningOptions);
}

Point point_from(const std::string& text, const Crs& crs) {
  std::string rest = text;
  Crs own = crs;
  if (const auto at = rest.rfind('@'); at != rest.npos) {
    own = Crs::parse(rest.substr(at + 1));
    rest = rest.substr(0, at);
  }
  // Degrees with their marks or letters are degrees, whatever the grid counts in.
  const bool marked = rest.find("°") != rest.npos || rest.find_first_of("'\"NSEWnsew") != rest.npos;
  if (marked && own && !own.is_geographic() && text.find('@') == text.npos) own = Crs::wgs84();
  const auto comma = rest.find(',');
  const auto bad = Error(ErrorCode::BadArgument, fmt::format("'{}' is not a point", text), {},
                         "write X,Y in the grid's CRS, or X,Y@CRS");
  if (comma == rest.npos) throw bad;
  Point p;
  if (own.is_geographic()) {
    p = {parse_degrees(rest.substr(0, comma)), parse_degrees(rest.substr(comma + 1))};
    if (rest.substr(0, comma).find_first_of("NSns") != rest.npos) std::swap(p.x, p.y);
  } else {
    const auto x = parse_number(rest.substr(0, comma)), y = parse_number(rest.substr(comma + 1));
    if (!x || !y) throw bad;
    p = {*x, *y};
  }
  if (own && crs) p = Transform(own, crs).forward(p);
  if (std::isnan(p.x))
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' cannot be placed in {}", text, crs.label()), {},
                "check its coordinates and CRS");
  return p;
}

void refuse_outside(const std::string& what, std::span<const Point> places, const Grid& grid) {
  const Frame& f = grid.frame();
  const Bounds box = f.bounds();
  Bounds all;
  for (Point p : places) {
    p.x = f.told_here(p.x);
    if (box.contains(p)) return;
    all.include(p);
  }
  // A line may cross the grid without a vertex in it.
  if (places.empty() || (places.size() > 1 && all.intersects(box))) return;
  const bool degrees = f.crs() && !f.crs().is_geographic() && looks_like_degrees(all);
  const bool swapped = !degrees && std::any_of(places.begin(), places.end(), [&](Point p) {
    return box.contains({p.y, p.x});
  });
  throw Error(
      ErrorCode::BadArgument,
      fmt::format("{} lies outside the grid, which has {} ({})", what, place_text(box, f.crs()), f.crs().label()),
      grid.info().name,
      degrees   ? "these numbers look like degrees: write X,Y@EPSG:4326"
      : swapped ? "the two numbers look swapped: x (east, longitude) comes first"
                : "check its coordinates, or name their CRS behind @");
}

Length length_from(const std::string& text, LengthUnit bare, std::vector<std::string>& notes) {
  const Length l = Length::parse(text, bare);
  if (parse_number(text))
    notes.push_back(fmt::format("{} was taken for {} {}, the unit of the grid", text, text, symbol(bare)));
  return l;
}

void add_surface_writing(CLI::App& verb, Common& c) {
  add_writing(verb, c);
  add_sheets(verb, c);
  add_reading(verb, c, Reading::Converts);
  add_uncertainty(verb, c);
  add_leaving_out(verb, c);
  add_output(verb, c);
  add_running(verb, c);
}

void add_surface_options(CLI::App& v, Common& o, std::string& in) {
  v.add_option("IN", in, "a surface")->required();
  v.add_option("--area", o.area, "only this area");
  v.add_option("--margin", o.margin, "this much around the area, e.g. 50m");
  add_reading(v, o, Reading::Converts);
  add_output(v, o);
  add_running(v, o);
}

double scale_from(const std::string& text) {
  const auto scale = parse_number(text.starts_with("1:") ? text.substr(2) : text);
  if (!scale || !(*scale > 0))
    throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no scale", text), "--scale", "write for instance 1:5000");
  return *scale;
}

// Heights have an interval with a unit. Other quantities have one in their own, which is no length: a number.
Length interval_from(const std::string& text, const Quantity& q, std::vector<std::string>& notes) {
  // What is counted in nothing (a shade, codes) is refused below, as what it is.
  if (unit_name(q) == symbol(q.unit) || unit_name(q).empty()) return length_from(text, q.unit, notes);
  const auto number = parse_number(text);
  if (!number)
    throw Error(ErrorCode::BadArgument,
                fmt::format("'{}' is no interval of {}, which is counted in {}", text, name_of(q.kind), unit_name(q)),
                "--interval", "give a number without a unit, for instance 5");
  return Length::of(*number, q.unit);
}

// "0,2,5,10,20m": the unit at the end is that of all that have none of their own.
std::vector<Length> levels_from(const std::string& text, const char* option, const Quantity& q, double sign,
                                std::vector<std::string>& notes) {
  const std::size_t noted = notes.size();
  std::vector<std::string> parts;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t comma = std::min(text.find(',', at), text.size());
    parts.push_back(text.substr(at, comma - at));
    at = comma + 1;
  }
  const std::size_t unit = parts.back().find_first_not_of("0123456789.+-eE ");
  const bool has_unit = unit != std::string::npos && !parse_number(parts.back());
  std::vector<Length> out;
  try {
    interval_from(parts.back(), q, notes);
    for (std::string& p : parts) {
      if (has_unit && parse_number(p)) p += parts.back().substr(unit);
      out.push_back(interval_from(p, q, notes) * sign);
    }
  } catch (const Error& e) {
    throw Error(ErrorCode::BadArgument, e.what(), option, "give levels apart by commas, for instance 0,2,5,10,20m");
  }
  // One note for all of them.
  if (notes.size() > noted + 1) notes.erase(notes.begin() + static_cast<std::ptrdiff_t>(noted) + 1, notes.end());
  std::sort(out.begin(), out.end());
  return out;
}

Angle angle_from(const std::string& text, std::vector<std::string>& notes) {
  const Angle a = Angle::parse(text);
  if (parse_number(text)) notes.push_back(fmt::format("{} was taken for {} degrees", text, text));
  return a;
}

namespace {

Grid with_note(const Grid& grid, const std::string& note) {
  return relabelled(grid, [&](GridInfo& info) { info.notes.push_back(note); });
}

}  // namespace

namespace {

// What shortlists said of the files they name: for files that do not say it themselves.
std::map<std::string, ShortlistEntry>& told_of_files() {
  static std::map<std::string, ShortlistEntry> m;
  return m;
}

// What the records of their surveys say of how sure they are: when nobody says it here.
std::map<std::string, StatedUncertainty>& stated_of_files() {
  static std::map<std::string, StatedUncertainty> m;
  return m;
}

// The survey and the date of files, as shortlists and the records of their folders have them.
struct ToldSurvey {
  std::string survey, date;
  bool date_guessed = false;
};
std::map<std::string, ToldSurvey>& surveys_of_files() {
  static std::map<std::string, ToldSurvey> m;
  return m;
}

Grid with_told_survey(const Grid& grid, const std::string& path) {
  const auto told = surveys_of_files().find(path);
  if (told == surveys_of_files().end() || grid.info().sources.size() != 1) return grid;
  return relabelled(grid, [&](GridInfo& info) {
    SourceRecord& source = info.sources[0];
    const ToldSurvey& t = told->second;
    if (!t.survey.empty()) source.survey = t.survey;
    if (t.date.empty() || (t.date_guessed && !source.date.empty())) return;
    source.date = t.date;
    source.date_guessed = t.date_guessed;
  });
}

OpenOptions options_for(const std::string& path, const Common& c) {
  OpenOptions o = c.open_options();
  if (const auto stated = stated_of_files().find(path); stated != stated_of_files().end())
    o.uncertainty = o.uncertainty.otherwise(stated->second);
  const auto told = told_of_files().find(path);
  if (told == told_of_files().end()) return o;
  const ShortlistEntry& e = told->second;
  if (!o.unit && !e.unit.empty()) o.unit = parse_length_unit(e.unit);
  const Grid plain = open_grid(path, o);
  try {
    if (!o.heights && !e.heights.empty() && !plain.quantity().heights.known())
      o.heights = HeightReference::parse(e.heights);
    if (!o.crs && !e.crs.empty() && !plain.frame().crs()) o.crs = Crs::parse(e.crs);
  } catch (const Error&) {
    // A name that means nothing here says nothing.
  }
  return o;
}

}  // namespace

Grid open_input(const std::string& path, const Common& c) {
  Grid grid = with_told_survey(open_grid(path, options_for(path, c)), path);
  if (grid.quantity().kind != QuantityKind::Height) return grid;
  const std::string name = grid.info().name;
  // What comes out are heights, positive up, also above a reference that is told by a system of depths.
  const HeightReference told = HeightReference::parse(c.heights), heights = told.as_heights();
  const HeightShift shift =
      parse_height_shift(c.shift, grid.quantity().unit, [](const std::string& file) { return open_grid(file); });
  if (!shift.given() && heights.known() && !grid.quantity().heights.known())
    grid =
        with_note(relabelled(grid, [&](GridInfo& info) { info.quantity.heights = heights; }),
                  fmt::format("{}: does not say from where heights are counted: {} was taken", name, heights.name()));
  else
    grid = brought_to(grid, heights, shift);
  if (told.is_depth())
    grid = with_note(grid, fmt::format("'{}' counts downwards: heights above it ({}) are given, positive up", c.heights,
                                       heights.name()));
  if (!c.unit.empty()) return in_unit(grid, parse_length_unit(c.unit));
  // A vertical system in feet names the unit of its heights, too.
  return heights.unit() != LengthUnit::Metre ? in_unit(grid, heights.unit()) : grid;
}

Grid within(const Grid& grid, const Common& c, std::vector<std::string>& notes) {
  if (c.area.empty()) return grid;
  const Length margin = c.margin.empty() ? Length() : length_from(c.margin, LengthUnit::Metre, notes);
  return clip(grid, area_from(c.area, &notes, {.margin = c.margin}), {.margin = margin});
}

bool is_traced(const Grid& grid) { return grid.info().sources.size() > 1; }

bool may_be_shortlist(const std::filesystem::path& path) {
  return has_ending(path, ".csv") || (has_ending(path, ".geojson") && !is_sheets_index(path));
}

std::vector<std::string> expand_inputs(const std::vector<std::string>& given, Inputs wanted) {
  std::vector<std::string> out;
  for (const std::string& g : given) {
    const std::filesystem::path p = g;
    std::error_code ec;
    if (std::filesystem::is_directory(p, ec)) {
      // What was made here of other files is none of the tiles to make something of.
      for (const TileRecord& t : open_folder(p).tiles) {
        if (wanted == Inputs::Grids && (t.kind != TileKind::Grid || !why_no_survey(t).empty())) continue;
        stated_of_files()[t.path.string()] = t.uncertainty;
        // Without a record the name would be one that we made up.
        if (std::filesystem::exists(t.path.parent_path() / "survey.toml", ec))
          surveys_of_files()[t.path.string()] = {t.survey, t.date, t.date_guessed};
        out.push_back(t.path.string());
      }
    } else if (std::filesystem::is_regular_file(p, ec) && !may_be_shortlist(p)) {
      for (const auto& grid : grids_behind(p)) out.push_back(grid.string());
    } else if (may_be_shortlist(p)) {
      std::vector<ShortlistEntry> entries;
      try {
        entries = read_shortlist(p);
      } catch (const Error& e) {
        // A table may hold soundings as well.
        if (e.code() != ErrorCode::BadFile || wanted != Inputs::All || !has_ending(p, ".csv")) throw;
        out.push_back(g);
      }
      for (const ShortlistEntry& e : entries) {
        // A shortlist is the user's own: the hosts in it are named.
        if (is_url(e.path.native())) name_host(e.path.native());
        told_of_files()[e.path.string()] = e;
        surveys_of_files()[e.path.string()] = {e.survey, e.date, e.date_guessed};
        out.push_back(e.path.string());
      }
    } else if (is_url(g)) {
      for (const auto& grid : grids_behind(p)) out.push_back(grid.string());
    } else {
      out.push_back(g);
    }
  }
  return out;
}

// ------------------------------------------------------------------------------------------------------- statements

}  // namespace katoptra::cli
