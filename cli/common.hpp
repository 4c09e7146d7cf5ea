// What every verb shares: options with one meaning, areas and points from text, the statement at the end.
#pragma once
#include <CLI/CLI.hpp>
#include <functional>
#include <nlohmann/json.hpp>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/tile.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/geo/area.hpp"
#include "katoptra/surface/reproject.hpp"
#include "katoptra/terrain/section.hpp"
#include "katoptra/view/map.hpp"

namespace katoptra::cli {

using nlohmann::ordered_json;

struct Common {
  std::string out, area, margin, crs, heights, unit, cell, resample = "auto", threads_text, memory = "512M";
  std::string uncertainty, error_reach;
  double confidence = 68;
  std::string from_crs, from_heights, from_unit, shift, band, columns, delimiter, codec = "auto", predictor = "auto";
  std::string sheets, part;
  std::vector<std::string> hosts;
  std::string key_file;
  std::optional<double> void_value, from_void;
  int threads = 0;
  bool json = false, dry_run = false, overwrite = false, quiet = false, depths = false, no_uncertainty = false;

  RunOptions run() const;
  // For passes over whole rows: they need all tiles of a row decoded at once and little besides, so the cache gets
  // three quarters of the budget (bands take an eighth of it).
  RunOptions run_in_bands() const;
  // What input that does not say is taken for. --crs counts unless the verb moves grids to it.
  OpenOptions open_options() const;
  WriteOptions write_options() const;
};

// The groups of a verb's options in its help: after those that say what it does.
inline constexpr const char* kOwnOptions = "Options";
inline constexpr const char* kInputOptions = "What the input does not say";
inline constexpr const char* kOutputOptions = "Output";
inline constexpr const char* kRunningOptions = "Running";
// Puts the help of all verbs in order: verbs in the order of the work, options in groups, an example in each.
void arrange_help(CLI::App& app);
// Before the first verb is added: how its help will look.
void lay_out_help(CLI::App& app);

// What the tool ends with (DESIGN: 2 wrong usage, 3 bad input, 4 file or network trouble, 130 interrupted).
int exit_status(ErrorCode code);

// The options by name, so that each verb takes those it understands and they mean the same everywhere.
void add_output(CLI::App& verb, Common& c, bool required = true);
// After add_output, of verbs that write lines or areas: in which forms. `before`: what it may be besides.
void say_lines(CLI::App& verb, const std::string& before = {});
enum class Reading { Assigns, Converts, Moves };
// --crs, --heights, --unit and what input that does not say is: verbs that only look take them for that; verbs that
// write convert heights to them; verbs that move grids have a --crs of their own.
void add_reading(CLI::App& verb, Common& c, Reading reading);
// --uncertainty --confidence --error-reach, of verbs that pass it on or make something of it; of those that write grids
// with it also --no-uncertainty.
void add_uncertainty(CLI::App& verb, Common& c);
void add_confidence(CLI::App& verb, Common& c);
void add_leaving_out(CLI::App& verb, Common& c);
void add_area(CLI::App& verb, Common& c, bool required = false);  // --area --margin
void add_writing(CLI::App& verb, Common& c);                      // --void --codec --dry-run
void add_sheets(CLI::App& verb, Common& c);                       // --sheets --part, of verbs that write grids
void add_running(CLI::App& verb, Common& c);                      // --threads --memory --json --quiet
// All of these groups but --area, of verbs that write a surface made of others.
void add_surface_writing(CLI::App& verb, Common& c);

// Of verbs that make something of a surface: IN, --area, --margin, and the groups that go with them.
void add_surface_options(CLI::App& v, Common& o, std::string& in);

// `gazetteer`: where places are looked up; empty: KATOPTRA_GAZETTEER, else gazetteer.geojson here or in `folders`.
// `tiles`: whose sheets may be named. `option`: what the text was given for.
struct Places {
  std::string gazetteer, margin;
  std::vector<std::string> folders;
  std::function<std::vector<TileRecord>()> tiles = {};
  std::string option = "--area";
};
Area area_from(const std::string& text, std::vector<std::string>* notes = nullptr, const Places& places = {});

// Hosts that the user named, on the command line or in a shortlist; keys go to them and no others.
void name_host(const std::string& url_or_host);
// Looks through the words of the command line for addresses, --host and --key-file.
void name_hosts_of(int argc, char** argv);
const HttpAccess& http_access();
void add_network(CLI::App& verb, Common& c);  // --host --key-file
// Degrees with marks or letters (31°3'W,37°33'S) may stand for a place in any CRS.
Point point_from(const std::string& text, const Crs& crs);
// BadArgument when all places lie outside the grid (in its CRS), with the grid's box and what may be meant.
void refuse_outside(const std::string& what, std::span<const Point> places, const Grid& grid);
// A length; a bare number is taken in `bare` and said so.
Length length_from(const std::string& text, LengthUnit bare, std::vector<std::string>& notes);
// "1:5000", or the number alone.
double scale_from(const std::string& text);
// Of heights a length; of other quantities, which are counted in something else, a bare number.
Length interval_from(const std::string& text, const Quantity& q, std::vector<std::string>& notes);
// "0,2,5,10,20m", ascending; the unit at the end is that of all that have none of their own. `sign`: -1 for depths.
std::vector<Length> levels_from(const std::string& text, const char* option, const Quantity& q, double sign,
                                std::vector<std::string>& notes);
// The same for an angle: degrees are taken for granted.
Angle angle_from(const std::string& text, std::vector<std::string>& notes);
// Opens a grid and brings its heights to the reference and unit asked for.
Grid open_input(const std::string& path, const Common& c);
// The part of a grid inside the area of --area, when one is given, and --margin around it.
Grid within(const Grid& grid, const Common& c, std::vector<std::string>& notes);
// A grid that came with its lineage keeps it through the next steps.
bool is_traced(const Grid& grid);
// Files as they are; the tiles of folders, archives and shortlists (of folders only grids, unless all are wanted).
enum class Inputs { Grids, All };
// By its name it may be a shortlist; an index of sheets is a surface.
bool may_be_shortlist(const std::filesystem::path& path);
std::vector<std::string> expand_inputs(const std::vector<std::string>& given, Inputs wanted = Inputs::Grids);

// ---- saying what came out

std::string place_text(const Bounds& b, const Crs& crs);
std::string cell_text(const Frame& f);
std::string height_text(const Quantity& q);
std::string range_text(double lowest, double highest, const Quantity& q);
ordered_json info_json(const GridInfo& info);

// "none", "12 of 400 cells (3.0 %)".
std::string part_text(std::int64_t part, std::int64_t whole, const std::string& things);

class Statement {
 public:
  explicit Statement(const Common& c) : common_(c) {}
  void title(const std::string& text);
  void line(const std::string& key, const std::string& text);
  void fact(const std::string& key, ordered_json value) { json_[key] = std::move(value); }
  void note(const std::string& text);
  // What was said while the input was opened and while the verb worked.
  void notes(const GridInfo& input, const std::vector<std::string>& own);
  void written(const WriteReport& r);
  ordered_json& json() { return json_; }
  // Prints it: text, or JSON and nothing else.
  void print();

 private:
  const Common& common_;
  std::string text_;
  ordered_json json_ = ordered_json::object();
};

// Progress of the running command: drawn on a terminal, cancelled by an interrupt.
Progress& progress();
void show_progress(bool on);

// Before the verbs: what was said, by which sheets of another run are known (--sheets).
void remember_words(int argc, char** argv);
// Of a grid that --sheets wants in parts. `others`: words of the command that are about other grids.
void write_as_sheets(const Grid& grid, const Common& c, const WriteOptions& options, Statement& s,
                     const std::set<std::string>& others = {});
// Writes a grid with the verb's options and puts what came out into the statement; with --dry-run only what would.
void write_or_plan(const Grid& grid, const Common& c, Statement& s, bool lineage);
// The same with the statement printed.
int write_and_state(const Grid& grid, const Common& c, const std::vector<std::string>& notes, bool lineage = false);
// Features where -o says; what else was written, and what the format could not say, is added to the notes.
// What belongs to a file of lines or areas, and what was said of it.
void say_layer(const LayerReport& r, std::vector<std::string>& notes);
// A layer in longitude and latitude as it is drawn in metres, where `out` is a drawing: in `crs`.
Layer as_drawn(const Layer& layer, const std::string& out, const Crs& crs);
// In which system it was written, and in which unit its heights are.
void say_place(const Layer& layer, const std::string& out, std::vector<std::string>& notes);
void write_features(const Layer& layer, const Common& c, std::vector<std::string>& notes);
void write_picture(const Picture& p, const std::string& path, bool overwrite);

// Each registers its verbs; the callbacks return the exit status through `status`.
void add_look(CLI::App& app, int& status);
void add_find_and_fetch(CLI::App& app, int& status);
void add_order_and_serve(CLI::App& app, int& status);
void add_surface_verbs(CLI::App& app, int& status);
void add_judging_verbs(CLI::App& app, int& status);
void add_product_verbs(CLI::App& app, int& status);
void add_contour_verbs(CLI::App& app, int& status);
void add_picture_verbs(CLI::App& app, int& status);
void add_solid_verb(CLI::App& app, int& status);
void add_view_verb(CLI::App& app, int& status);
void add_section_verb(CLI::App& app, int& status);
void add_flatten(CLI::App& app, int& status);
void add_water_verbs(CLI::App& app, int& status);
void add_point_verbs(CLI::App& app, int& status);
void add_study_verbs(CLI::App& app, int& status);

}  // namespace katoptra::cli
