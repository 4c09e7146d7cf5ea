// Orders from services that extract on demand (OGC API Processes), and the book in which they stand. An order is
// written down before it is sent, so that one whose answer got lost can be found again; each stage that the service
// tells is kept with its time. Following asks in growing steps. A result is collected only from the host that was
// ordered from or one that the user named, and put in place whole.
#include "katoptra/catalogue/orders.hpp"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <numbers>
#include <thread>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/fetch.hpp"
#include "katoptra/formats/http.hpp"

#include "base/sqlite.hpp"
#include "base/text.hpp"
#include "stac_json.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::int64_t kBookApplication = 0x4b746f62;
constexpr const char* kResults = "http://www.opengis.net/def/rel/ogc/1.0/results";

std::string now() {
  const auto t = std::chrono::system_clock::now();
  const auto ms = std::chrono::duration_cast<std::chrono::milliseconds>(t.time_since_epoch()).count() % 1000;
  return fmt::format("{:%Y-%m-%dT%H:%M:%S}.{:03}Z", fmt::gmtime(std::chrono::system_clock::to_time_t(t)), ms);
}

std::string slashed(const std::string& address) { return address.ends_with('/') ? address : address + "/"; }

json ask(const HttpRequest& q, HttpResponse* whole = nullptr) {
  HttpResponse r = send_patiently(q);
  if (!r.ok()) {
    // A problem document (RFC 7807) says it better than a number.
    const json j = json::parse(r.body, nullptr, false);
    const std::string detail = !word(j, "detail").empty()       ? word(j, "detail")
                               : word(j, "description").empty() ? word(j, "title")
                                                                : word(j, "description");
    if (!detail.empty() && r.status >= 400 && r.status < 500 && r.status != 401 && r.status != 403 && r.status != 429)
      throw Error(ErrorCode::BadArgument, fmt::format("does not accept this: {}", detail.substr(0, 300)),
                  shown_url(q.url), "look at what its process takes");
    refuse_answer(r);
  }
  json j = r.status == 204 ? json() : parse_json(r.body, shown_url(q.url));
  if (whole) *whole = std::move(r);
  return j;
}

std::string link_of(const json& j, const std::string& rel, const std::string& base) {
  const json& links = member(j, "links");
  if (links.is_array())
    for (const json& l : links)
      if (word(l, "rel") == rel) return resolve_url(base, word(l, "href"));
  return {};
}

void same_host(const std::string& url, const std::string& service) {
  if (is_url(url) && host_of(url) == host_of(service)) return;
  throw Error(ErrorCode::Refused,
              fmt::format("leads on to {}, which was not named", is_url(url) ? host_of(url) : "no web address"),
              shown_url(service), "fetch the result by hand if you trust it");
}

// The input that wants the place, and how.
struct AreaInput {
  std::string name;
  bool box = false;
};
AreaInput area_input(const json& description, const std::string& where) {
  const json& inputs = member(description, "inputs");
  const json* by_name = nullptr;
  std::string name;
  if (inputs.is_object())
    for (const auto& [key, input] : inputs.items()) {
      const std::string schema = member(input, "schema").dump();
      if (schema.find("ogc-bbox") != schema.npos) return {key, true};
      if (schema.find("geojson-geometry") != schema.npos) return {key, false};
      for (const char* known : {"area", "aoi", "bbox", "geometry", "extent", "polygon", "region"})
        if (!by_name && lower_case(key) == known) by_name = &input, name = key;
    }
  if (!by_name)
    throw Error(ErrorCode::Unsupported, "its process has no input for an area that is understood", where,
                "order by hand, or give the area with --set");
  const std::string schema = member(*by_name, "schema").dump();
  return {name, lower_case(name) == "bbox" && schema.find("object") == schema.npos};
}

}  // namespace

// --------------------------------------------------------------------------------------------------------- the book

struct OrderBook::Impl {
  explicit Impl(const fs::path& path) : sql(path) {
    if (!sql.claim(kBookApplication, "order book")) return;
    SqlTransaction t(sql);
    sql.run(
        "CREATE TABLE entry(id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT, service TEXT, process TEXT, job TEXT, "
        "inputs TEXT, state TEXT, message TEXT, created TEXT, result TEXT, file TEXT, bytes INTEGER, area TEXT)");
    sql.run("CREATE TABLE stage(entry INTEGER, state TEXT, message TEXT, time TEXT)");
    t.commit();
  }

  static std::string area_text(const MultiPolygon& area) {
    return area.empty() ? std::string() : geometry_json(area).dump();
  }

  Order read(const SqlQuery& q) const {
    Order o;
    o.id = q.integer(0);
    o.kind = q.text(1);
    o.service = q.text(2);
    o.process = q.text(3);
    o.job = q.text(4);
    o.inputs = q.text(5);
    o.state = q.text(6);
    o.message = q.text(7);
    o.created = q.text(8);
    o.result = q.text(9);
    o.file = q.text(10);
    o.bytes = static_cast<std::uint64_t>(q.integer(11));
    if (const std::string area = q.text(12); !area.empty())
      o.area = polygons_of(parse_json(area, sql.file()), sql.file());
    auto s = sql.query("SELECT state, message, time, strftime('%J', time) FROM stage WHERE entry = ?1 ORDER BY rowid");
    s.bind(1, o.id);
    double before = 0;
    while (s.step()) {
      const double day = std::atof(s.text(3).c_str());
      if (!o.stages.empty()) o.stages.back().seconds = std::round((day - before) * 86400 * 1000) / 1000;
      before = day;
      o.stages.push_back({s.text(0), s.text(1), s.text(2), 0});
    }
    return o;
  }
  static constexpr const char* kColumns =
      "SELECT id, kind, service, process, job, inputs, state, message, created, result, file, bytes, area FROM entry ";
  Sql sql;
};

OrderBook::OrderBook(const fs::path& path) {
  std::error_code ec;
  if (path.has_parent_path()) fs::create_directories(path.parent_path(), ec);
  impl_ = std::make_unique<Impl>(path);
}
OrderBook::~OrderBook() = default;
const std::string& OrderBook::file() const { return impl_->sql.file(); }

std::vector<Order> OrderBook::list() const {
  std::vector<Order> out;
  auto q = impl_->sql.query(std::string(Impl::kColumns) + "ORDER BY id DESC");
  while (q.step()) out.push_back(impl_->read(q));
  return out;
}

Order OrderBook::get(std::int64_t id) const {
  auto q = impl_->sql.query(std::string(Impl::kColumns) + "WHERE id = ?1");
  if (!q.bind(1, id).step())
    throw Error(ErrorCode::BadArgument, fmt::format("has no order {}", id), file(), "see katoptra order list");
  return impl_->read(q);
}

std::int64_t OrderBook::add(const Order& o) {
  const std::string area = Impl::area_text(o.area), created = o.created.empty() ? now() : o.created;
  impl_->sql
      .query(
          "INSERT INTO entry(kind, service, process, job, inputs, state, message, created, result, file, bytes, area) "
          "VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)")
      .bind(1, std::string_view(o.kind))
      .bind(2, std::string_view(o.service))
      .bind(3, std::string_view(o.process))
      .bind(4, std::string_view(o.job))
      .bind(5, std::string_view(o.inputs))
      .bind(6, std::string_view(o.state))
      .bind(7, std::string_view(o.message))
      .bind(8, std::string_view(created))
      .bind(9, std::string_view(o.result))
      .bind(10, std::string_view(o.file.native()))
      .bind(11, static_cast<std::int64_t>(o.bytes))
      .bind(12, std::string_view(area))
      .run();
  return impl_->sql.last_row();
}

void OrderBook::update(const Order& o) {
  impl_->sql
      .query("UPDATE entry SET job = ?2, state = ?3, message = ?4, result = ?5, file = ?6, bytes = ?7 WHERE id = ?1")
      .bind(1, o.id)
      .bind(2, std::string_view(o.job))
      .bind(3, std::string_view(o.state))
      .bind(4, std::string_view(o.message))
      .bind(5, std::string_view(o.result))
      .bind(6, std::string_view(o.file.native()))
      .bind(7, static_cast<std::int64_t>(o.bytes))
      .run();
}

void OrderBook::add_stage(std::int64_t id, const std::string& state, const std::string& message) {
  const std::string time = now();
  impl_->sql.query("INSERT INTO stage VALUES (?1, ?2, ?3, ?4)")
      .bind(1, id)
      .bind(2, std::string_view(state))
      .bind(3, std::string_view(message))
      .bind(4, std::string_view(time))
      .run();
}

fs::path default_order_book() {
  if (const char* own = std::getenv("KATOPTRA_BOOK"); own && *own) return own;
  if (const char* xdg = std::getenv("XDG_DATA_HOME"); xdg && *xdg) return fs::path(xdg) / "katoptra/orders.book";
  if (const char* home = std::getenv("HOME"); home && *home)
    return fs::path(home) / ".local/share/katoptra/orders.book";
  return "orders.book";
}

// ----------------------------------------------------------------------------------------------------------- orders

std::int64_t submit_order(OrderBook& book, const OrderRequest& request) {
  const std::string process = slashed(request.service) + "processes/" + percent_encoded(request.process);
  ordered_json inputs = ordered_json::parse(request.inputs, nullptr, false);
  if (!inputs.is_object())
    throw Error(ErrorCode::BadArgument, "the inputs are no JSON object", "order", "write name=value");
  const json description = ask({.url = process});
  const json& known = member(description, "inputs");
  for (const auto& [key, value] : inputs.items())
    if (known.is_object() && !known.contains(key)) {
      std::string names;
      for (const auto& [name, input] : known.items()) names += (names.empty() ? "" : ", ") + name;
      throw Error(ErrorCode::BadArgument, fmt::format("its process knows no input '{}'", key), shown_url(process),
                  "it knows " + names);
    }
  const MultiPolygon area = request.area.in(Crs::wgs84()).shape();
  const AreaInput to = area_input(description, shown_url(process));
  const Bounds b = bounds_of(area);
  inputs[to.name] = to.box ? ordered_json{b.west, b.south, b.east, b.north} : geometry_json(area);
  Order o{.kind = "order",
          .service = slashed(request.service),
          .process = request.process,
          .job = {},
          .inputs = ordered_json::parse(request.inputs).dump(),
          .state = "submitting",
          .message = {},
          .created = now(),
          .result = {},
          .file = {},
          .area = area,
          .stages = {}};
  o.id = book.add(o);
  book.add_stage(o.id, "submitted", {});
  try {
    HttpResponse answer;
    const std::string execution = process + "/execution";
    const json status = ask({.url = execution,
                             .method = "POST",
                             .headers = {{"Content-Type", "application/json"}, {"Prefer", "respond-async"}},
                             .body = ordered_json{{"inputs", inputs}}.dump()},
                            &answer);
    o.job = answer.header("location");
    if (!o.job.empty())
      o.job = resolve_url(execution, o.job);
    else if (!word(status, "jobID").empty())
      o.job = slashed(request.service) + "jobs/" + percent_encoded(word(status, "jobID"));
    else
      throw Error(ErrorCode::Unsupported, "answers without a job that could be followed", shown_url(execution),
                  "it may not execute asynchronously");
    same_host(o.job, o.service);
    o.state = word(status, "status").empty() ? "accepted" : word(status, "status");
    o.message = word(status, "message");
    book.add_stage(o.id, o.state, o.message);
    book.update(o);
  } catch (const Error& e) {
    o.state = "failed";
    o.message = e.what();
    book.add_stage(o.id, o.state, o.message);
    book.update(o);
    throw;
  }
  return o.id;
}

Order follow_order(OrderBook& book, std::int64_t id, const FollowOptions& options) {
  Order o = book.get(id);
  const auto start = std::chrono::steady_clock::now();
  auto pause = options.first;
  while (!o.done()) {
    if (o.job.empty())
      throw Error(ErrorCode::Refused, fmt::format("order {} never reached its service", id), book.file(), "repeat it");
    const json s = ask({.url = o.job, .progress = options.progress});
    const std::string state = word(s, "status"), message = word(s, "message");
    if (state.empty())
      throw Error(ErrorCode::BadFile, "tells no status of its job", shown_url(o.job), "tell who runs it");
    if (state != o.state || message != o.message) {
      o.state = state;
      o.message = message;
      if (state == "successful") {
        o.result = link_of(s, kResults, o.job);
        if (o.result.empty()) o.result = o.job + "/results";
      }
      book.add_stage(id, state, message);
      book.update(o);
      o = book.get(id);
      if (options.say) options.say(o);
      pause = options.first;
    }
    if (o.done()) break;
    if (options.at_most && std::chrono::steady_clock::now() - start > *options.at_most) break;
    const auto until = std::chrono::steady_clock::now() + pause;
    while (std::chrono::steady_clock::now() < until) {
      if (options.progress) options.progress->check();
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    pause = std::min(pause * 3 / 2, options.longest);
  }
  return o;
}

Order collect_order(OrderBook& book, std::int64_t id, const fs::path& path, bool overwrite) {
  Order o = follow_order(book, id, {.at_most = std::chrono::seconds(0)});
  if (o.state == "failed" || o.state == "dismissed")
    throw Error(ErrorCode::Refused,
                fmt::format("order {} {}: {}", id, o.state == "failed" ? "failed" : "was called off", o.message),
                shown_url(o.service), "repeat it with other inputs");
  if (!o.done())
    throw Error(ErrorCode::Refused, fmt::format("order {} is not done: {} {}", id, o.state, o.message),
                shown_url(o.service), "follow it, or come back later");
  same_host(o.result, o.service);
  const json results = ask({.url = o.result});
  std::string href;
  for (const auto& [name, output] : results.items())
    if (href.empty() && !word(output, "href").empty()) href = resolve_url(o.result, word(output, "href"));
  if (href.empty())
    throw Error(ErrorCode::Unsupported, "gives its results in a way that is not understood", shown_url(o.result),
                "collect it by hand");
  same_host(href, o.service);
  const FetchedTile t = fetch_file({.path = href}, path, {.folder = path.parent_path(), .overwrite = overwrite});
  o.file = fs::absolute(path);
  o.bytes = t.size;
  o.state = "collected";
  book.add_stage(id, o.state, path.string());
  book.update(o);
  return book.get(id);
}

std::int64_t repeat_order(OrderBook& book, std::int64_t id, const std::string& changes,
                          const std::optional<Area>& area) {
  const Order o = book.get(id);
  if (o.kind != "order")
    throw Error(ErrorCode::BadArgument, fmt::format("{} is a {}, no order", id, o.kind), book.file(),
                "say fetch again with its shortlist");
  ordered_json inputs = ordered_json::parse(o.inputs, nullptr, false);
  const ordered_json more = ordered_json::parse(changes, nullptr, false);
  if (!inputs.is_object()) inputs = ordered_json::object();
  if (more.is_object()) inputs.merge_patch(more);
  return submit_order(book, {.service = o.service,
                             .process = o.process,
                             .area = area ? *area : Area(o.area, Crs::wgs84()),
                             .inputs = inputs.dump()});
}

Order dismiss_order(OrderBook& book, std::int64_t id) {
  Order o = book.get(id);
  if (o.done()) return o;
  if (!o.job.empty()) ask({.url = o.job, .method = "DELETE"});
  o.state = "dismissed";
  o.message = "called off";
  book.add_stage(id, o.state, o.message);
  book.update(o);
  return book.get(id);
}

Grid demand_grid(const std::vector<Order>& orders, int cells) {
  Bounds box;
  for (const Order& o : orders) box.include(bounds_of(o.area));
  if (box.empty()) throw Error(ErrorCode::Refused, "names no area", "the order book", "order or fetch something first");
  // Cells as high as wide on the ground, and a rim around what was asked for.
  const Point c = box.centre();
  const double shrink = std::max(0.05, std::cos(c.y * std::numbers::pi / 180));
  const double side = std::max({box.width() * shrink, box.height(), 1e-6}), rim = side * 0.08;
  const CellSize cell{(side + 2 * rim) / std::max(8, cells) / shrink, (side + 2 * rim) / std::max(8, cells)};
  const Bounds wide = {box.west - rim / shrink, std::max(-90.0, box.south - rim), box.east + rim / shrink,
                       std::min(90.0, box.north + rim)};
  const Frame frame(Crs::wgs84(), wide.west, wide.north, cell,
                    std::max<std::int64_t>(1, std::llround(wide.width() / cell.x)),
                    std::max<std::int64_t>(1, std::llround(wide.height() / cell.y)));
  std::vector<float> values(static_cast<std::size_t>(frame.cols() * frame.rows()), std::nanf(""));
  for (const Order& o : orders) {
    if (o.area.empty()) continue;
    const Bounds b = bounds_of(o.area);
    const Window w = frame.window_of_centres(b).intersected(frame.window());
    for (std::int64_t r = w.row; r < w.row + w.rows; ++r)
      for (std::int64_t k = w.col; k < w.col + w.cols; ++k) {
        if (!contains(o.area, frame.centre(static_cast<double>(k), static_cast<double>(r)))) continue;
        float& v = values[static_cast<std::size_t>(r * frame.cols() + k)];
        v = std::isnan(v) ? 1 : v + 1;
      }
  }
  Quantity q;
  q.kind = QuantityKind::Unknown;
  q.other_unit = "times asked";
  return grid_from_values(frame, values, q);
}

}  // namespace katoptra
