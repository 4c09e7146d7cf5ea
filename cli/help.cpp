// How the help is laid out.
#include <algorithm>
#include <fmt/format.h>
#include <memory>
#include <sstream>
#include <string>
#include <string_view>
#include <vector>

#include "common.hpp"

namespace katoptra::cli {
namespace {

// Verbs in the order of the work, each with a command that can be run in the folder of the example data.
struct VerbHelp {
  const char* verb;
  const char* stage;
  const char* example;
};
constexpr const char *kFind = "Find and fetch", *kSurface = "Make a surface", *kTrust = "Trust it",
                     *kUse = "What it is for", *kWater = "Where water goes", *kAll = "All at once";
constexpr VerbHelp kVerbs[] = {
    {"look", kFind, "katoptra look ground-2022/sheet_b2.tif"},
    {"find", kFind, "katoptra find --in . --area area.geojson --margin 50m -o tiles.csv"},
    {"fetch", kFind, "katoptra fetch tiles.csv -o here"},
    {"order", kFind, "katoptra order list"},
    {"mosaic", kSurface, "katoptra mosaic ground-2022/sheet_b1.tif ground-2022/sheet_b2.tif --unit m -o surface.tif"},
    {"points", kSurface, "katoptra points lidar-2022/lidar_nw.laz --class 2 -o ground.laz"},
    {"grid", kSurface, "katoptra grid lidar-2022/lidar_nw.laz --cell 1m -o ground.tif"},
    {"fill", kSurface, "katoptra fill ground-2022/sheet_b2.tif -o filled.tif"},
    {"flatten", kSurface, "katoptra flatten reference/truth.tif --sea 0m --record sea.gpkg -o flat.tif"},
    {"clip", kSurface, "katoptra clip ground-2022/sheet_b2.tif --area area.geojson -o part.tif"},
    {"reproject", kSurface, "katoptra reproject orbit-2000/S38W032.hgt.zip --crs utm --cell 30m -o utm.tif"},
    {"check", kTrust, "katoptra check reference/truth.tif"},
    {"compare", kTrust, "katoptra compare ground-2022/sheet_b2.tif reference/truth.tif"},
    {"correct", kTrust, "katoptra correct ground-2022/sheet_b2.tif --spikes -o clean.tif"},
    {"statistics", kTrust, "katoptra statistics ground-2022/sheet_b2.tif"},
    {"hillshade", kUse, "katoptra hillshade ground-2022/sheet_b2.tif --azimuth 300deg -o shade.tif"},
    {"shadows", kUse, "katoptra shadows ground-2022/sheet_b2.tif --altitude 15deg -o shadows.tif"},
    {"sky-view", kUse, "katoptra sky-view ground-2022/sheet_b2.tif --radius 60m -o sky.tif"},
    {"slope", kUse, "katoptra slope ground-2022/sheet_b2.tif --as percent -o slope.tif"},
    {"aspect", kUse, "katoptra aspect ground-2022/sheet_b2.tif -o aspect.tif"},
    {"curvature", kUse, "katoptra curvature ground-2022/sheet_b2.tif --kind tangential --window 9 -o bends.tif"},
    {"position", kUse, "katoptra position ground-2022/sheet_b2.tif --radius 10m,50m --as deviations -o ridges.tif"},
    {"ruggedness", kUse, "katoptra ruggedness ground-2022/sheet_b2.tif --kind deviation --window 11 -o uneven.tif"},
    {"openness", kUse, "katoptra openness ground-2022/sheet_b2.tif --kind below --radius 60m -o open.tif"},
    {"landforms", kUse, "katoptra landforms ground-2022/sheet_b2.tif --radius 60m -o forms.tif"},
    {"roughness", kUse, "katoptra roughness ground-2022/sheet_b2.tif -o rough.tif"},
    {"derive", kUse,
     "katoptra derive ground-2022/sheet_b2.tif slope hillshade:altitude=30deg curvature:window=9 -o shapes"},
    {"contours", kUse, "katoptra contours ground-2022/sheet_b2.tif --interval 5m -o lines.gpkg"},
    {"spots", kUse, "katoptra spots ground-2022/sheet_b2.tif --radius 50m --relief 2m -o spots.gpkg"},
    {"section", kUse, "katoptra section reference/truth.tif --line transect.geojson -o section.png"},
    {"sample", kUse, "katoptra sample reference/truth.tif --points control.csv -o heights.csv"},
    {"map", kUse, "katoptra map ground-2022/sheet_b2.tif --contours 5m -o map.png"},
    {"picture", kUse, "katoptra picture ground-2022/sheet_b2.tif --contours 5m -o relief.kmz"},
    {"heightmap", kUse, "katoptra heightmap ground-2022/sheet_b2.tif --size 513x513 -o world.png"},
    {"solid", kUse, "katoptra solid ground-2022/sheet_b2.tif --bed 200mmx150mm --exaggerate 2 -o hill.stl"},
    {"view", kUse, "katoptra view ground-2022/sheet_b2.tif --drape curvature:window=9 -o hill.html"},
    {"depressions", kWater, "katoptra depressions ground-2022/sheet_b2.tif --sea 0m -o sinks.gpkg"},
    {"flow", kWater, "katoptra flow ground-2022/sheet_b2.tif --sea 0m --as area -o upstream.tif"},
    {"streams", kWater, "katoptra streams reference/truth.tif --sea 0m --from-area 1ha -o streams.gpkg"},
    {"basins", kWater, "katoptra basins reference/truth.tif --sea 0m --from-area 1ha -o basins.gpkg"},
    {"inundation", kWater, "katoptra inundation ground-2022/sheet_b2.tif --level 4m -o wet.gpkg"},
    {"reservoir", kWater,
     "katoptra reservoir reference/truth.tif --dam transect.geojson --from 677620,5841430 -o full.csv"},
    {"study", kAll, "katoptra study study.toml --dry-run"},
    {"demo", kAll, "katoptra demo -o marrowick"},
    {"serve", kAll, "katoptra serve . --port 8080"},
};

constexpr std::size_t kWidth = 66;  // of what is said of an option

// Lines no longer than that, broken at blanks.
std::string wrapped(const std::string& text) {
  std::string out, line;
  std::istringstream words(text);
  for (std::string word; words >> word;) {
    if (!line.empty() && line.size() + 1 + word.size() > kWidth) {
      out += line + "\n";
      line.clear();
    }
    line += (line.empty() ? "" : " ") + word;
  }
  return out + line;
}

class Layout final : public CLI::Formatter {
 public:
  Layout() {
    column_width(34);
    label("Positionals", "What it takes");
  }
  std::string make_help(const CLI::App* app, std::string name, CLI::AppFormatMode mode) const override {
    if (mode == CLI::AppFormatMode::Sub) return make_expanded(app);
    std::string help = make_description(app) + make_usage(app, std::move(name)) + make_positionals(app);
    for (const char* group : {kOwnOptions, kInputOptions, kOutputOptions, kRunningOptions}) {
      const std::vector<const CLI::Option*> options = app->get_options([&](const CLI::Option* o) {
        return o->nonpositional() &&
               (o == app->get_help_ptr() && app->get_parent() ? kRunningOptions : o->get_group()) == group;
      });
      const bool own = app->get_parent() && std::string_view(group) == kOwnOptions;
      if (!options.empty()) help += make_group(own ? "What it does" : group, false, options);
    }
    help += make_subcommands(app, mode);
    if (!app->get_footer().empty()) help += "\n" + app->get_footer() + "\n";
    return help;
  }
  std::string make_option_opts(const CLI::Option* o) const override {
    if (!o->get_option_text().empty()) return " " + o->get_option_text();
    if (o->get_type_size() == 0) return {};
    // "TEXT:{a,b}" are words to choose from, "INT:INT in [0 - 9]" and the like numbers.
    std::string type = o->get_type_name();
    if (const auto open = type.find('{'); open != type.npos) {
      type = type.substr(open + 1, type.find('}') - open - 1);
      std::replace(type.begin(), type.end(), ',', '|');
    } else if (type.starts_with("INT") || type.starts_with("UINT") || type.starts_with("FLOAT")) {
      type = "N";
    }
    return " " + type + (o->get_expected_max() == CLI::detail::expected_max_vector_size ? " ..." : "");
  }
  std::string make_option_desc(const CLI::Option* o) const override {
    std::string text = o->get_description();
    if (o->get_required()) text += " (needed)";
    std::string value = o->get_type_size() == 0 ? std::string() : o->get_default_str();
    if (value.starts_with('[') && value.ends_with(']')) value = value.substr(1, value.size() - 2);  // of a list
    if (!value.empty()) text += fmt::format(" [{}]", value);
    return wrapped(text);
  }
};

}  // namespace

void lay_out_help(CLI::App& app) {
  app.formatter(std::make_shared<Layout>());
  app.option_defaults()->always_capture_default();
}

void arrange_help(CLI::App& app) {
  // Groups come in the order in which the first verb of each was added, so verbs are put in order by the table.
  for (const VerbHelp& v : kVerbs) {
    CLI::App* verb = app.get_subcommand(v.verb);
    verb->group(v.stage);
    verb->footer(fmt::format("Example: {}", v.example));
    // Verbs with words of their own for what most have.
    for (const char* name : {"--out", "--overwrite", "--dry-run"})
      if (CLI::Option* o = verb->get_option_no_throw(name)) o->group(kOutputOptions);
    for (const char* name : {"--threads", "--memory", "--json", "--quiet"})
      if (CLI::Option* o = verb->get_option_no_throw(name)) o->group(kRunningOptions);
  }
}

}  // namespace katoptra::cli
