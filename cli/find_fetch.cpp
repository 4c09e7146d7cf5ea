// What covers an area, and bringing it here.
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue_file.hpp"
#include "katoptra/catalogue/fetch.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/catalogue/orders.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/study/coverage_page.hpp"
#include "katoptra/view/map.hpp"

#include "common.hpp"

namespace katoptra::cli {
namespace fs = std::filesystem;
namespace {

std::string size_text(std::uint64_t bytes) { return bytes ? format_bytes(static_cast<double>(bytes)) : "?"; }

struct FindCommand : Common {
  std::vector<std::string> in, prefer{"newest", "finest"};
  std::string keep, map, page, book, gazetteer, kind, year, density, format, survey, access;
  std::optional<int> point_class;
  bool complete = false, all = false, fresh = false;
};

// "2016", "2016..2022", "2016..", "..2016"
void read_years(const std::string& text, TileFilter& f) {
  const auto dots = text.find("..");
  auto year = [&](const std::string& part) -> std::optional<int> {
    if (part.empty()) return std::nullopt;
    const auto n = parse_number(part);
    if (!n || *n != std::floor(*n) || *n < 1000 || *n > 9999)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no year", part), "--year", "write 2016 or 2016..2022");
    return static_cast<int>(*n);
  };
  f.from_year = year(text.substr(0, dots));
  f.to_year = dots == text.npos ? f.from_year : year(text.substr(dots + 2));
}

FindOptions options_of(const FindCommand& o) {
  FindOptions f{.prefer = {}, .all = o.all, .have_key = !http_access().keys.empty()};
  for (const std::string& p : o.prefer) {
    if (p == "one-reference")
      f.one_reference = true;
    else
      f.prefer.push_back(parse_preference(p));
  }
  TileFilter& t = f.filter;
  if (!o.kind.empty()) t.kind = parse_tile_kind(o.kind);
  if (!o.year.empty()) read_years(o.year, t);
  if (!o.cell.empty()) t.coarsest = Length::parse(o.cell, LengthUnit::Metre);
  if (!o.density.empty()) {
    const auto d = parse_number(o.density);
    if (!d || !(*d > 0))
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no density", o.density), "--density",
                  "write points a square metre, such as 4");
    t.density = *d;
  }
  if (!o.heights.empty()) t.heights = HeightReference::parse(o.heights);
  t.format = o.format;
  t.survey = o.survey;
  t.point_class = o.point_class;
  if (!o.access.empty()) t.access = parse_access(o.access);
  return f;
}

// Columns as wide as what stands in them; the last one is not padded.
std::string table(const std::vector<std::vector<std::string>>& rows, const std::string& right) {
  std::vector<std::size_t> width;
  auto length = [](const std::string& s) {
    return static_cast<std::size_t>(std::count_if(s.begin(), s.end(), [](char c) { return (c & 0xC0) != 0x80; }));
  };
  for (const auto& row : rows)
    for (std::size_t c = 0; c < row.size(); ++c) {
      if (width.size() <= c) width.push_back(0);
      width[c] = std::max(width[c], length(row[c]));
    }
  std::string out;
  for (const auto& row : rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      const std::string pad(width[c] - length(row[c]), ' ');
      if (c) out += "  ";
      out += c < right.size() && right[c] == 'r' ? pad + row[c] : row[c] + (c + 1 < row.size() ? pad : "");
    }
    out += "\n";
  }
  return out;
}

std::string cell_or_density(Length cell, double density) {
  if (density > 0) return fmt::format("{:.3g}/m2", density);
  return cell > Length() ? format_length(cell) : "?";
}

std::string access_text(Access a, const std::string& custodian) {
  return a == Access::Open || custodian.empty() ? name_of(a) : fmt::format("{} ({})", name_of(a), custodian);
}

std::string survey_table(const Shortlist& s) {
  std::vector<std::vector<std::string>> rows = {
      {"survey", "kind", "date", "cell", "heights", "tiles", "size", "covers", "adds", "licence", "access"}};
  for (const SurveySummary& v : s.surveys) {
    std::string date = v.from;
    if (v.to != v.from) date = v.from.substr(0, 4) + ".." + v.to.substr(0, std::min<std::size_t>(4, v.to.size()));
    rows.push_back({v.name, name_of(v.kind), date + (v.date_guessed ? "?" : ""), cell_or_density(v.cell, v.density),
                    v.heights, fmt::format("{} of {}", v.kept, v.tiles), size_text(v.bytes),
                    fmt::format("{:.1f} %", 100 * v.covered_fraction), fmt::format("{:.1f} %", 100 * v.adds),
                    v.licence.empty() ? "?" : v.licence, access_text(v.access, v.custodian)});
  }
  return table(rows, "lllrlrrrrll");
}

std::string tile_table(const Shortlist& s) {
  std::vector<std::vector<std::string>> rows = {{" ", "tile", "date", "cell", "size", "covers", "why"}};
  for (const ShortlistTile& t : s.tiles)
    rows.push_back({t.kept ? "+" : "-", short_name(t.tile), t.tile.date + (t.tile.date_guessed ? "?" : ""),
                    cell_or_density(t.tile.spacing.y, t.tile.density), size_text(t.tile.bytes),
                    fmt::format("{:.1f} %", 100 * t.covered_fraction), t.reason});
  return table(rows, "lllrrrl");
}

std::string find_text(const Shortlist& s) {
  std::size_t kept = 0;
  std::map<std::string, std::size_t> hosts;
  for (const ShortlistTile& t : s.tiles) {
    kept += t.kept;
    if (t.kept && t.tile.remote()) ++hosts[host_of(t.tile.path.native())];
  }
  std::string text = survey_table(s) + "\n" + tile_table(s);
  text += fmt::format("\n{} of {} tiles kept, {}; {:.3f} % of the area is covered", kept, s.tiles.size(),
                      size_text(s.bytes), 100 * s.covered_fraction);
  text += s.gaps.empty() ? ", no gap\n" : "\n";
  for (const auto& [host, n] : hosts) text += fmt::format("{} of them lie on {}\n", n, host);
  if (std::any_of(s.tiles.begin(), s.tiles.end(), [](const ShortlistTile& t) {
        return t.reason.starts_with("newer or finer") || t.reason.starts_with("a twin");
      }))
    text += "(headers tell where tiles lie, not where they have voids: --all keeps the covered ones, too)\n";
  for (const std::string& n : s.notes) text += "note: " + n + "\n";
  if (s.gaps.empty()) return text;
  text +=
      fmt::format("{} gap{} of {} together:\n", s.gaps.size(), s.gaps.size() == 1 ? "" : "s", format_area(s.gap_area));
  for (std::size_t i = 0; i < s.gap_list.size() && i < 12; ++i) {
    const Gap& g = s.gap_list[i];
    const Bounds b = bounds_of(g.shape);
    const std::string share = g.share >= 0.001 ? fmt::format("{:.1f} % of the area", 100 * g.share) : "a trace of it";
    text +=
        fmt::format("   {}, {}: {} in box:{:.6f},{:.6f},{:.6f},{:.6f}{}\n", g.where, share, format_area(g.area), b.west,
                    b.south, b.east, b.north, s.area.crs().epsg() == 4326 ? "" : "@" + s.area.crs().label());
    text += g.closed_by.empty()
                ? "      no survey covers it\n"
                : fmt::format("      {} would close {:.0f} % of it: {}\n", g.closed_by, 100 * g.fraction, g.how);
  }
  if (s.gap_list.size() > 12) text += fmt::format("   and {} smaller ones\n", s.gap_list.size() - 12);
  return text;
}

Picture coverage_map(const Shortlist& s, const std::string& file) {
  const Crs& crs = s.area.crs();
  Layer dropped{.name = "dropped", .crs = crs, .features = {}}, kept = dropped, gaps = dropped, area = dropped;
  for (const ShortlistTile& t : s.tiles) {
    if (t.footprint.empty()) continue;
    const std::string name = t.tile.id;
    if (t.kept)
      kept.features.push_back({t.footprint, {{"label", name}}});
    else
      dropped.features.push_back({t.footprint, {}});
  }
  for (const Gap& g : s.gap_list) gaps.features.push_back({g.shape, {}});
  area.features.push_back({s.area.shape(), {}});
  const Bounds b = s.area.bounds();
  const double around = 0.18 * std::max(b.width(), b.height());
  const Bounds sheet = b.grown(around);
  const Frame frame(crs, sheet.west, sheet.north, {sheet.width(), sheet.height()}, 1, 1);
  std::vector<MapOverlay> overlays = {
      {dropped, OverlayStyle::Footprints, fmt::format("not needed ({})", dropped.features.size())},
      {kept, OverlayStyle::Kept, fmt::format("kept ({})", kept.features.size())}};
  if (!gaps.features.empty())
    overlays.push_back({gaps, OverlayStyle::Gaps, fmt::format("gaps ({})", gaps.features.size())});
  overlays.push_back({area, OverlayStyle::Area, {}});
  return draw_outlines(frame,
                       {.format = picture_format_for(file),
                        .width = 1280,
                        .title = "Tiles that cover the area",
                        .subtitle = fmt::format("{:.2f} % covered by {} of {} tiles, {}", 100 * s.covered_fraction,
                                                kept.features.size(), s.tiles.size(), size_text(s.bytes)),
                        .overlays = overlays});
}

void keep_catalogues(const FindCommand& o) {
  CatalogueFile file(o.keep);
  for (const std::string& in : o.in) {
    std::error_code ec;
    CatalogueUpdate r;
    const bool items = fs::is_regular_file(in, ec) && !has_ending(in, ".katalog") && fs::file_size(in, ec) > (1 << 20);
    if (fs::is_directory(in, ec) && !fs::exists(fs::path(in) / "catalog.json") &&
        !fs::exists(fs::path(in) / "collection.json"))
      r = file.refresh_folder(in, o.run());
    else if (items)
      r = file.add_items(in, o.run());
    else
      r = file.add(
          in, read_catalogue(in, {},
                             {.hosts = http_access().hosts, .cache = {}, .most_items = 10'000'000, .run = o.run()}));
    if (!o.quiet && !o.json)
      fmt::print("{}: {} tiles, {} read anew, {} gone, {:.1f} s\n", o.keep, r.items, r.read, r.removed, r.seconds);
  }
}

CoveragePage page_of(const FindCommand& o, const Shortlist& s) {
  CoveragePage p{.shortlist = s,
                 .searched = o.keep.empty() ? o.in : std::vector<std::string>{o.keep},
                 .area = o.area,
                 .run = o.run()};
  const fs::path book = o.book.empty() ? default_order_book() : fs::path(o.book);
  std::error_code ec;
  if (!book.empty() && fs::exists(book, ec)) p.orders = OrderBook(book).list();
  return p;
}

void find(const FindCommand& o, int& status) {
  if (o.area.empty() && o.keep.empty())
    throw Error(ErrorCode::BadArgument, "no area is given", "--area",
                "give an area, or --keep to fill a catalogue file");
  const FindOptions options = options_of(o);
  if (!o.map.empty()) picture_format_for(o.map);
  if (!o.page.empty() && !has_ending(o.page, ".html") && !has_ending(o.page, ".htm"))
    throw Error(ErrorCode::BadArgument,
                fmt::format("pages are not written as '{}'", fs::path(o.page).extension().string()), "--page",
                "give a name that ends in .html");
  if (!o.keep.empty()) keep_catalogues(o);
  if (o.area.empty()) return;
  std::vector<std::string> notes;
  Catalogue catalogue;
  auto gather = [&](const Area* area) {
    Catalogue all;
    for (const std::string& in : o.keep.empty() ? o.in : std::vector<std::string>{o.keep}) {
      Catalogue part = read_catalogue(
          in, {.area = area, .filter = options.filter},
          {.hosts = http_access().hosts, .cache = o.fresh ? fs::path() : default_cache(), .run = o.run()});
      std::move(part.tiles.begin(), part.tiles.end(), std::back_inserter(all.tiles));
      std::move(part.notes.begin(), part.notes.end(), std::back_inserter(all.notes));
    }
    return all;
  };
  Area area = area_from(
      o.area, &notes, {.gazetteer = o.gazetteer, .margin = o.margin, .folders = o.in, .tiles = [&] {
                         std::vector<TileRecord> tiles = gather(nullptr).tiles;
                         std::erase_if(tiles, [&](const TileRecord& t) { return !options.filter.refuses(t).empty(); });
                         return tiles;
                       }});
  if (!o.margin.empty()) area = area.grown(Length::parse(o.margin, LengthUnit::Metre));
  catalogue = gather(&area);
  Shortlist s = find_tiles(catalogue, area, options);
  s.notes.insert(s.notes.begin(), notes.begin(), notes.end());
  if (!o.out.empty()) {
    if (has_ending(o.out, ".csv"))
      write_text_file(o.out, shortlist_csv(s), {.overwrite = o.overwrite});
    else
      write_layer(as_drawn(shortlist_layer(s), o.out, area.utm()), o.out, {.overwrite = o.overwrite});
  }
  if (!o.map.empty()) write_picture(coverage_map(s, o.map), o.map, o.overwrite);
  if (!o.page.empty()) write_text_file(o.page, coverage_page(page_of(o, s)), {.overwrite = o.overwrite});
  if (o.json)
    std::fputs((shortlist_json(s) + "\n").c_str(), stdout);
  else if (!o.quiet)
    std::fputs((find_text(s) + (o.out.empty() ? "" : "shortlist written to " + o.out + "\n") +
                (o.map.empty() ? "" : "map written to " + o.map + "\n") +
                (o.page.empty() ? "" : "page written to " + o.page + ": open it in a browser\n"))
                   .c_str(),
               stdout);
  if (o.complete && !s.gaps.empty()) status = 1;
}

// ------------------------------------------------------------------------------------------------------------- fetch

struct FetchCommand : Common {
  std::string shortlist, book;
  int parallel = 4, tries = 6;
  bool unpack = false, no_book = false;
};

std::string duration_text(double seconds) {
  if (seconds < 90) return fmt::format("{:.0f} s", seconds);
  return seconds < 5400 ? fmt::format("{:.0f} min", seconds / 60) : fmt::format("{:.1f} h", seconds / 3600);
}

ordered_json fetched_json(const FetchedTile& t) {
  ordered_json j = {{"href", shown_url(t.entry.path.native())},
                    {"path", t.path.string()},
                    {"outcome", name_of(t.outcome)},
                    {"bytes", t.size},
                    {"moved", t.moved}};
  if (!t.problem.empty()) j["problem"] = t.problem;
  if (!t.note.empty()) j["note"] = t.note;
  if (!t.unpacked.empty()) {
    j["unpacked"] = ordered_json::array();
    for (const auto& u : t.unpacked) j["unpacked"].push_back(u.string());
  }
  return j;
}

// The speed of the last fetch from the network that moved enough to tell; 0 when there was none.
double last_speed(const fs::path& book) {
  std::error_code ec;
  if (book.empty() || !fs::exists(book, ec)) return 0;
  for (const Order& o : OrderBook(book).list()) {
    if (o.kind != "fetch") continue;
    const auto j = ordered_json::parse(o.inputs, nullptr, false);
    const double moved = j.value("moved", 0.0), seconds = j.value("seconds", 0.0);
    if (moved > 65536 && seconds > 0) return moved / seconds;
  }
  return 0;
}

void write_down(const FetchCommand& o, const FetchReport& r, const fs::path& book_path) {
  Order entry{.kind = "fetch",
              .service = {},
              .process = {},
              .job = {},
              .inputs = {},
              .state = {},
              .message = {},
              .created = {},
              .result = {},
              .file = fs::absolute(o.out),
              .bytes = r.moved,
              .area = {},
              .stages = {}};
  std::vector<MultiPolygon> boxes;
  for (const FetchedTile& t : r.tiles) {
    if (entry.service.empty() && is_url(t.entry.path.native())) entry.service = host_of(t.entry.path.native());
    if (!t.entry.box.empty()) boxes.push_back({to_polygon(t.entry.box)});
  }
  if (!boxes.empty()) entry.area = union_of(boxes);
  const std::size_t missing = r.missing().size();
  entry.state = missing ? "partial" : "collected";
  entry.message = fmt::format("{} of {} tiles", r.tiles.size() - missing, r.tiles.size());
  entry.inputs =
      ordered_json{{"shortlist", fs::absolute(o.shortlist).string()}, {"moved", r.moved}, {"seconds", r.seconds}}
          .dump();
  OrderBook book(book_path);
  book.add_stage(book.add(entry), entry.state, entry.message);
}

void state_plan(const FetchCommand& o, const FetchPlan& plan, std::size_t to_come, double speed,
                const std::string& estimate) {
  if (o.json) {
    ordered_json j = {{"folder", o.out},         {"to_fetch", to_come},           {"bytes", plan.bytes},
                      {"unknown", plan.unknown}, {"free_bytes", plan.free_bytes}, {"dry_run", true}};
    j["seconds"] = speed > 0 ? ordered_json(static_cast<double>(plan.bytes) / speed) : ordered_json(nullptr);
    j["tiles"] = ordered_json::array();
    for (const FetchedTile& t : plan.tiles) j["tiles"].push_back(fetched_json(t));
    std::fputs((j.dump(2) + "\n").c_str(), stdout);
  } else if (!o.quiet) {
    for (const FetchedTile& t : plan.tiles)
      fmt::print("  {:<8} {:>10}  {}{}\n", t.outcome == FetchOutcome::Fetched ? "to fetch" : name_of(t.outcome),
                 size_text(t.size), shown_url(t.entry.path.native()), t.problem.empty() ? "" : ": " + t.problem);
    fmt::print("{}; nothing was moved\n", estimate);
  }
}

void state_report(const FetchCommand& o, const FetchReport& r, const std::string& book_trouble) {
  const auto missing = r.missing();
  if (o.json) {
    ordered_json j = {{"folder", o.out},
                      {"moved", r.moved},
                      {"seconds", r.seconds},
                      {"missing", missing.size()},
                      {"shortlist", r.shortlist.string()}};
    j["tiles"] = ordered_json::array();
    for (const FetchedTile& t : r.tiles) j["tiles"].push_back(fetched_json(t));
    if (!book_trouble.empty()) j["notes"] = {book_trouble};
    std::fputs((j.dump(2) + "\n").c_str(), stdout);
  } else if (!o.quiet) {
    for (const FetchedTile& t : r.tiles) {
      if (t.outcome == FetchOutcome::Failed) continue;
      fmt::print("  {:<8} {:>10}  {}{}\n", name_of(t.outcome), size_text(t.size), t.path.string(),
                 t.note.empty() ? "" : "; " + t.note);
      for (const auto& u : t.unpacked) fmt::print("  {:<8} {:>10}  {}\n", "unpacked", "", u.string());
    }
    for (const FetchedTile* t : missing)
      fmt::print("  missing              {}: {}\n", shown_url(t->entry.path.native()), t->problem);
    fmt::print("{} of {} tiles are here, {} moved in {:.1f} s{}\n", r.tiles.size() - missing.size(), r.tiles.size(),
               format_bytes(static_cast<double>(r.moved)), r.seconds,
               r.shortlist.empty() ? "" : "; " + r.shortlist.string() + " lists them");
    if (!missing.empty()) fmt::print("say the same command again to go on with what is missing\n");
    if (!book_trouble.empty()) fmt::print("note: the order book could not be written: {}\n", book_trouble);
  }
}

void fetch(const FetchCommand& o, int& status) {
  const auto entries = read_shortlist(o.shortlist);
  if (entries.empty())
    throw Error(ErrorCode::BadFile, "keeps no tile", o.shortlist, "set kept to 1 for those that are wanted");
  for (const ShortlistEntry& e : entries)
    if (is_url(e.path.native())) name_host(e.path.native());
  const fs::path book = o.no_book ? fs::path() : o.book.empty() ? default_order_book() : fs::path(o.book);
  FetchOptions f{.folder = o.out,
                 .parallel = o.parallel,
                 .unpack = o.unpack,
                 .overwrite = o.overwrite,
                 .progress = &progress(),
                 .say = {}};
  f.patience.tries = o.tries;
  const FetchPlan plan = plan_fetch(entries, f);
  double speed = 0;
  try {
    speed = last_speed(book);
  } catch (const Error&) {
    // Without a book there is no estimate.
  }
  const std::size_t to_come = static_cast<std::size_t>(std::count_if(
      plan.tiles.begin(), plan.tiles.end(), [](const FetchedTile& t) { return t.outcome == FetchOutcome::Fetched; }));
  std::string estimate = fmt::format("{} of {} tiles to fetch, {}{}; {} free", to_come, plan.tiles.size(),
                                     format_bytes(static_cast<double>(plan.bytes)),
                                     plan.unknown ? fmt::format(" and {} of unknown size", plan.unknown) : "",
                                     format_bytes(static_cast<double>(plan.free_bytes)));
  if (speed > 0 && plan.bytes)
    estimate += fmt::format("; about {} at the {}/s of the last time",
                            duration_text(std::ceil(static_cast<double>(plan.bytes) / speed)), format_bytes(speed));
  if (o.dry_run) return state_plan(o, plan, to_come, speed, estimate);
  const bool draw = !o.quiet && !o.json && ::isatty(2);
  if (!o.quiet && !o.json) fmt::print("{}\n", estimate);
  if (draw)
    f.say = [](const FetchProgress& p) {
      fmt::print(stderr, "\r{} of {} tiles, {}{}, {}/s{}   ", p.done, p.files,
                 format_bytes(static_cast<double>(p.moved)),
                 p.bytes ? " of " + format_bytes(static_cast<double>(p.bytes)) : "", format_bytes(p.per_second),
                 p.seconds_left > 0 ? ", " + duration_text(p.seconds_left) + " left" : "");
      if (p.done == p.files) fmt::print(stderr, "\r{:70}\r", "");
    };
  const FetchReport r = fetch_tiles(entries, f);
  std::string book_trouble;
  if (!book.empty()) try {
      write_down(o, r, book);
    } catch (const Error& e) {
      book_trouble = e.what();
    }
  state_report(o, r, book_trouble);
  if (!r.missing().empty()) status = 4;
}

}  // namespace

void add_find_and_fetch(CLI::App& app, int& status) {
  auto f = std::make_shared<FindCommand>();
  CLI::App* v = app.add_subcommand("find", "tiles that cover an area: shortlist, coverage, gaps, size, and why");
  v->add_option("--in", f->in, "folders, catalogue files, STAC documents, or addresses of STAC catalogues and services")
      ->required();
  v->add_option("--area", f->area,
                "box:W,S,E,N, circle:LON,LAT,RADIUS, a vector file, like:FILE, place:NAME or sheet:NAME");
  v->add_option("--margin", f->margin, "this much around the area, e.g. 50m");
  v->add_option("--gazetteer", f->gazetteer, "where places are looked up (GeoJSON)");
  v->add_option("--kind", f->kind, "only grid, points or soundings");
  v->add_option("--year", f->year, "only of these years: 2016, 2016..2022, 2016..");
  v->add_option("--cell", f->cell, "only cells at most this large, e.g. 1m");
  v->add_option("--density", f->density, "only points at least this dense, a square metre");
  v->add_option("--heights", f->heights, "only heights above this reference, e.g. EGM2008");
  v->add_option("--format", f->format, "only of this format");
  v->add_option("--class", f->point_class, "only points with this class, by number");
  v->add_option("--access", f->access, "only open, key or restricted");
  v->add_option("--survey", f->survey, "only surveys with this in their name");
  v->add_option("--prefer", f->prefer,
                "what goes first: newest, finest, given; one-reference: heights from one reference only")
      ->delimiter(',');
  v->add_flag("--all", f->all, "keep every tile that touches the area");
  v->add_flag("--complete", f->complete, "exit with 1 when a gap is left");
  v->add_option("--keep", f->keep, "keep what is known of the tiles in this catalogue file, and search that");
  v->add_flag("--fresh", f->fresh, "open all headers of a folder again");
  v->add_option("--map", f->map, "a map of footprints, choice and gaps (.png, .svg, .pdf)");
  v->add_option("--page", f->page,
                "a page for a browser (.html): all of this on a map, to filter, to choose by hand, to take along");
  v->add_option("--book", f->book,
                "the order book whose orders and fetches that page shows (default: KATOPTRA_BOOK, or one of yours)")
      ->needs(v->get_option("--page"));
  add_network(*v, *f);
  add_output(*v, *f, false);
  add_running(*v, *f);
  v->callback([f, &status] { find(*f, status); });

  auto g = std::make_shared<FetchCommand>();
  v = app.add_subcommand("fetch", "bring the tiles of a shortlist here: resumed, verified, unpacked");
  v->add_option("SHORTLIST", g->shortlist, "a shortlist that find wrote (.csv, .geojson)")->required();
  v->add_option("-o,--out", g->out, "the folder to bring them to")->required();
  v->add_option("--parallel", g->parallel, "connections at once")->check(CLI::Range(1, 32));
  v->add_option("--tries", g->tries, "how often to try what fails")->check(CLI::Range(1, 100));
  v->add_flag("--unpack", g->unpack, "unpack archives, and archives within archives");
  v->add_flag("--overwrite", g->overwrite, "replace other files of the same name");
  v->add_flag("--dry-run", g->dry_run, "say how much would come, and how long it takes");
  v->add_option("--book", g->book, "the order book to write this into (default: KATOPTRA_BOOK, or one of yours)");
  v->add_flag("--no-book", g->no_book, "write it into none");
  add_network(*v, *g);
  add_running(*v, *g);
  v->callback([g, &status] { fetch(*g, status); });
}

}  // namespace katoptra::cli
