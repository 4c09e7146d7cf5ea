#include "service.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <httplib.h>
#include <map>
#include <mutex>
#include <optional>
#include <sys/stat.h>
#include <thread>
#include <utility>

#include "katoptra/base/checksum.hpp"
#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/catalogue/catalogue.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/http.hpp"
#include "katoptra/study/coverage_page.hpp"

#include "catalogue/stac_json.hpp"
#include "coverage.hpp"
#include "gate.hpp"
#include "jobs.hpp"
#include "search.hpp"

namespace katoptra {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMostHashed = std::uint64_t{1} << 30;
constexpr std::size_t kPiece = 64 << 10;
constexpr std::size_t kMostAsked = std::size_t{4} << 20;  // of the body of a request

// The file a tile lies in: itself, or the archive around it.
fs::path on_disk(const fs::path& path) {
  std::error_code ec;
  for (fs::path at = path; !at.empty() && at != at.parent_path(); at = at.parent_path())
    if (fs::is_regular_file(at, ec)) return at;
  return path;
}

std::string multihash_of(const fs::path& path) {
  const auto file = open_file(path);
  if (file->size() > kMostHashed) return {};
  Sha256 sum;
  std::vector<std::uint8_t> piece(std::size_t{1} << 20);
  for (std::uint64_t at = 0; at < file->size();) {
    const std::size_t n = file->read_at(at, piece);
    if (n == 0) break;
    sum.add(std::span(piece).first(n));
    at += n;
  }
  return "1220" + sum.hex();  // SHA-256, 32 bytes
}

struct ServedFile {
  fs::path path;
  std::uint64_t size = 0;
  std::string tag, changed;
  Access access = Access::Open;
};

// "bytes=100-199", "bytes=100-", "bytes=-100"; nullopt when it is not one range that can be met.
struct Range {
  std::uint64_t from, to;  // [from, to)
};
std::optional<Range> range_from(const std::string& text, std::uint64_t size) {
  if (!text.starts_with("bytes=") || text.find(',') != text.npos) return std::nullopt;
  const auto dash = text.find('-');
  if (dash == text.npos) return std::nullopt;
  const auto from = parse_number(text.substr(6, dash - 6)), to = parse_number(text.substr(dash + 1));
  if (from && *from >= 0 && *from < static_cast<double>(size)) {
    const std::uint64_t end = to ? static_cast<std::uint64_t>(*to) + 1 : size;
    if (to && *to < *from) return std::nullopt;
    return Range{static_cast<std::uint64_t>(*from), std::min(end, size)};
  }
  if (!from && to && *to > 0) {
    const std::uint64_t n = std::min(size, static_cast<std::uint64_t>(*to));
    return Range{size - n, size};
  }
  return std::nullopt;
}

// Boxes of longitude and latitude, which may count on beyond 180.
bool meets_on_globe(Bounds a, const Bounds& b) {
  a.west -= 360;
  a.east -= 360;
  for (int turn = 0; turn < 3; ++turn, a.west += 360, a.east += 360)
    if (a.intersects(b)) return true;
  return false;
}

}  // namespace

struct Service::Impl {
  using Request = httplib::Request;
  using Response = httplib::Response;

  explicit Impl(ServiceOptions o) : options(std::move(o)), catalogue(open_folder(options.folder)) {
    // What has no name of a survey, or cannot be opened at all, is not offered.
    std::erase_if(catalogue.tiles, [](const TileRecord& t) { return t.survey.empty(); });
    std::vector<std::string> hashes(catalogue.tiles.size());
    parallel_for(hashes.size(), {}, [&](std::size_t i) { hashes[i] = multihash_of(on_disk(catalogue.tiles[i].path)); });
    std::map<std::string, int> taken;
    for (std::size_t i = 0; i < catalogue.tiles.size(); ++i) {
      TileRecord& t = catalogue.tiles[i];
      const fs::path file = on_disk(t.path);
      const std::string name = file.lexically_relative(options.folder).generic_string();
      ServedFile& f = files[name];
      f.path = file;
      struct stat st {};
      ::stat(file.c_str(), &st);
      f.size = static_cast<std::uint64_t>(st.st_size);
      f.tag = fmt::format("\"{:x}-{:x}\"", st.st_size, st.st_mtim.tv_sec * 1000000000L + st.st_mtim.tv_nsec);
      f.changed = fmt::format("{:%a, %d %b %Y %H:%M:%S} GMT", fmt::gmtime(st.st_mtim.tv_sec));
      if (t.access == Access::Restricted && !options.key.empty()) t.access = Access::Key;
      f.access = std::max(f.access, t.access);
      t.bytes = f.size + (options.wrong.wrong_sizes ? 1234 : 0);
      t.checksum = options.wrong.wrong_sizes ? std::string() : hashes[i];
      hrefs.push_back("files/" + percent_encoded(name));
      const std::string id = survey_id(t.survey);
      if (int& n = taken[id + "/" + t.id]; n++) t.id += fmt::format("-{}", n);
      surveys[id].push_back(i);
    }
    jobs.emplace(catalogue, options.job_seconds);
    routes();
    port = take_port(server, options.host, options.port, 8);
  }

  std::string name_of_folder() const {
    std::error_code ec;
    const fs::path whole = fs::canonical(options.folder, ec);
    return (ec ? options.folder : whole).filename().string();
  }
  std::string address() const { return fmt::format("http://{}:{}/", options.host, port); }

  // ------------------------------------------------------------------------------------------------------- answers

  // Links count from the name that the client called the service by.
  std::string base(const Request& q) const {
    const std::string host = q.get_header_value("Host");
    return host.empty() ? address() : "http://" + host + "/";
  }

  static void send(Response& r, const ordered_json& j, const char* type = "application/json") {
    r.set_content(j.dump(-1, ' ', false, ordered_json::error_handler_t::replace), type);
  }
  static void refuse(Response& r, int status, const std::string& what) {
    r.status = status;
    send(r, {{"code", std::to_string(status)}, {"title", what}, {"description", what}}, "application/problem+json");
  }

  // Runs a handler; what is wrong with the request becomes its answer.
  template <class Body>
  auto guarded(Body body) {
    return [this, body](const Request& q, Response& r) {
      if (Gate{options.host, port}.refuses(q)) return refuse(r, 403, Gate::kWhy);
      const long n = ++count;
      auto every = [&](int k) { return k > 0 && n % k == 0; };
      if (every(options.wrong.fail_every)) return refuse(r, 503, "out of order for a moment");
      if (every(options.wrong.busy_every)) {
        r.set_header("Retry-After", "1");
        return refuse(r, 429, "too many requests");
      }
      try {
        body(q, r);
      } catch (const Error& e) {
        refuse(r, e.code() == ErrorCode::Io ? 404 : 400, e.what());
      } catch (const std::exception& e) {
        refuse(r, 500, e.what());
      }
    };
  }

  static ordered_json link(const char* rel, const std::string& href, const char* type = "application/json") {
    return {{"rel", rel}, {"type", type}, {"href", href}};
  }

  ordered_json landing(const Request& q) const {
    const std::string b = base(q);
    ordered_json j = {{"type", "Catalog"},
                      {"stac_version", kStacVersion},
                      {"id", "katoptra"},
                      {"title", "Surveys of " + name_of_folder()},
                      {"description", "A stand-in for a data service"},
                      {"conformsTo", conformance()}};
    ordered_json links = ordered_json::array(
        {link("self", b), link("root", b), link("conformance", b + "conformance"), link("data", b + "collections"),
         link("service-desc", b + "api", "application/vnd.oai.openapi+json;version=3.0"),
         link("http://www.opengis.net/def/rel/ogc/1.0/processes", b + "processes"),
         link("http://www.opengis.net/def/rel/ogc/1.0/job-list", b + "jobs")});
    for (const char* method : {"GET", "POST"}) {
      ordered_json l = link("search", b + "search", "application/geo+json");
      l["method"] = method;
      links.push_back(l);
    }
    for (const auto& [id, tiles] : surveys) links.push_back(link("child", b + "collections/" + id));
    j["links"] = links;
    return j;
  }

  static ordered_json conformance() {
    return {"https://api.stacspec.org/v1.0.0/core",
            "https://api.stacspec.org/v1.0.0/collections",
            "https://api.stacspec.org/v1.0.0/ogcapi-features",
            "https://api.stacspec.org/v1.0.0/item-search",
            "https://api.stacspec.org/v1.0.0/item-search#filter",
            "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
            "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
            "http://www.opengis.net/spec/cql2/1.0/conf/cql2-json",
            "http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2",
            "http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/core",
            "http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/json",
            "http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/job-list",
            "http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/dismiss"};
  }

  // A description as short as the truth allows; STAC asks for one.
  static ordered_json api() {
    ordered_json j = {{"openapi", "3.0.3"}, {"info", {{"title", "Stand-in data service"}, {"version", "1"}}}};
    for (const char* path : {"/", "/conformance", "/collections", "/collections/{id}", "/collections/{id}/items",
                             "/search", "/processes", "/processes/{id}", "/jobs", "/jobs/{id}", "/jobs/{id}/results"})
      j["paths"][path]["get"]["responses"]["200"]["description"] = "as its standard says";
    return j;
  }

  ItemLinks links_of(const std::string& b, const std::string& id) const {
    return {.self = b + "collections/" + id, .root = b, .parent = b, .collection = {}, .collection_id = id, .href = {}};
  }

  ordered_json collection(const Request& q, const std::string& id) const {
    std::vector<const TileRecord*> tiles;
    for (std::size_t i : surveys.at(id)) tiles.push_back(&catalogue.tiles[i]);
    const std::string b = base(q);
    ordered_json c = ordered_json::parse(collection_of_survey(id, tiles, links_of(b, id)));
    c["links"].push_back(link("items", b + "collections/" + id + "/items", "application/geo+json"));
    return c;
  }

  json item(const Request& q, const std::string& id, std::size_t i) const {
    const TileRecord& t = catalogue.tiles[i];
    const std::string b = base(q), whole = b + "collections/" + id;
    return json::parse(item_of_tile(t, {.self = whole + "/items/" + percent_encoded(t.id),
                                        .root = b,
                                        .parent = whole,
                                        .collection = whole,
                                        .collection_id = id,
                                        .href = b + hrefs[i]}));
  }

  const std::vector<std::size_t>& survey(const std::string& id) const {
    const auto f = surveys.find(id);
    if (f == surveys.end()) throw Error(ErrorCode::Io, "there is no collection of that name", id);
    return f->second;
  }

  void search(const Request& q, Response& r, json request, bool post) const {
    const ItemSearch s = parse_item_search(request, static_cast<std::size_t>(options.page));
    ordered_json features = ordered_json::array();
    std::size_t matched = 0;
    for (const auto& [id, list] : surveys)
      for (std::size_t i : list) {
        const json one = item(q, id, i);
        if (!s.matches(one)) continue;
        if (matched >= s.offset && features.size() < s.limit) features.push_back(ordered_json(one));
        ++matched;
      }
    const std::size_t behind = s.offset + features.size();
    ordered_json links = ordered_json::array({link("root", base(q))});
    if (behind < matched) {
      request["token"] = std::to_string(behind);
      ordered_json next = link("next", base(q) + q.path.substr(1), "application/geo+json");
      next["method"] = post ? "POST" : "GET";
      if (post) {
        next["body"] = request;
      } else {
        std::string href = next["href"].get<std::string>() + "?token=" + std::to_string(behind);
        for (const auto& [key, value] : q.params)
          if (key != "token") href += "&" + key + "=" + percent_encoded(value);
        next["href"] = href;
      }
      links.push_back(next);
    }
    send(r,
         {{"type", "FeatureCollection"},
          {"features", features},
          {"links", links},
          {"numberMatched", matched},
          {"numberReturned", features.size()}},
         "application/geo+json");
  }

  // The parameters of a GET as the JSON that a POST would bring.
  static json from_parameters(const Request& q) {
    json j = json::object();
    for (const auto& [key, value] : q.params) {
      if (key == "bbox" || key == "limit" || key == "intersects" || key == "filter")
        j[key] = json::parse(key == "bbox" ? "[" + value + "]" : value, nullptr, false);
      else if (key == "collections" || key == "ids") {
        std::size_t at = 0;
        while (at <= value.size()) {
          const auto comma = std::min(value.find(',', at), value.size());
          j[key].push_back(value.substr(at, comma - at));
          at = comma + 1;
        }
      } else
        j[key] = value;
    }
    return j;
  }

  // --------------------------------------------------------------------------------------------------------- files

  bool may(const Request& q, const ServedFile& f, Response& r) const {
    if (f.access == Access::Open) return true;
    const std::string given = q.get_header_value("Authorization");
    if (!options.key.empty() && given == "Bearer " + options.key) return true;
    if (given.empty() && !options.key.empty()) {
      r.set_header("WWW-Authenticate", "Bearer");
      refuse(r, 401, "a key is needed");
    } else {
      refuse(r, 403, options.key.empty() ? "is restricted" : "this key does not open it");
    }
    return false;
  }

  // What Content-Range says of a part; a wrong one starts elsewhere, too.
  std::string part_told(std::uint64_t& from, std::uint64_t to, std::uint64_t size, Response& r) {
    const std::string right = fmt::format("bytes {}-{}/{}", from, to - 1, size);
    const long every = options.wrong.wrong_parts_every, n = ++part_count;
    if (every <= 0 || n % every != 0) return right;
    const std::uint64_t asked = std::exchange(from, from / 2);
    switch (n / every % 4) {
      case 0:
        return fmt::format("bytes {}-{}/{}", from, to - 1, size);
      case 1:
        return "";
      case 2:  // of another version of the file
        r.headers.erase("ETag");
        r.set_header("ETag", "\"another\"");
        return right;
      default:  // more than there is
        return fmt::format("bytes {}-{}/*", asked, to + 99);
    }
  }

  void file(const Request& q, Response& r, const ServedFile& f) {
    if (!may(q, f, r)) return;
    const Misbehaviour& w = options.wrong;
    const long n = ++file_count;
    r.set_header("ETag", f.tag);
    r.set_header("Last-Modified", f.changed);
    r.set_header("Accept-Ranges", w.no_ranges ? "none" : "bytes");
    if (q.get_header_value("If-None-Match") == f.tag) {
      r.status = 304;
      return;
    }
    std::uint64_t from = 0, to = f.size;
    const std::string wanted = q.get_header_value("Range"), condition = q.get_header_value("If-Range");
    // The library would cut ranges by itself, but knows no If-Range.
    const_cast<Request&>(q).ranges.clear();
    r.status = 200;
    if (!wanted.empty() && !w.no_ranges && (condition.empty() || condition == f.tag)) {
      const auto range = range_from(wanted, f.size);
      if (!range) {
        r.set_header("Content-Range", fmt::format("bytes */{}", f.size));
        return refuse(r, 416, "there is no such range");
      }
      from = range->from;
      to = range->to;
      r.status = 206;
      const std::string told = part_told(from, to, f.size, r);
      if (!told.empty()) r.set_header("Content-Range", told);
    } else if (w.truncate_every > 0 && n % w.truncate_every == 0) {
      to = f.size * 2 / 3;
    }
    const std::uint64_t length = to - from;
    const bool cut = w.cut_every > 0 && n % w.cut_every == 0;
    const std::uint64_t give = cut ? length / 2 : length;
    const auto source = open_file(f.path);
    const auto start = std::chrono::steady_clock::now();
    r.set_content_provider(
        length, "application/octet-stream", [=, this](std::size_t offset, std::size_t want, httplib::DataSink& sink) {
          if (offset >= give && give < length) return false;
          std::vector<std::uint8_t> piece(
              std::min<std::size_t>({want, kPiece, static_cast<std::size_t>(give - offset)}));
          source->read_exactly(from + offset, piece);
          if (options.wrong.bytes_per_second > 0) {
            const auto due = start + std::chrono::duration<double>(static_cast<double>(offset + piece.size()) /
                                                                   options.wrong.bytes_per_second);
            std::this_thread::sleep_until(due);
          }
          return sink.write(reinterpret_cast<const char*>(piece.data()), piece.size());
        });
  }

  // --------------------------------------------------------------------------------------------------------- routes

  // ------------------------------------------------------------------------------------------------------- the page

  // A tile as a catalogue of this service tells it.
  TileRecord told_tile(std::size_t i, const std::string& b) const {
    TileRecord t = catalogue.tiles[i];
    t.path = b + hrefs[i];
    return t;
  }

  LivePage page(const Request& q) {
    const std::scoped_lock lock(searching);
    if (const auto known = pages.find(base(q)); known != pages.end()) return known->second;
    constexpr std::size_t kMostNames = 8;
    if (pages.size() >= kMostNames) pages.clear();
    CoveragePage c{.shortlist = {}, .searched = {base(q)}, .area = {}, .live = "coverage", .local = catalogue.tiles};
    c.title = "Surveys of " + name_of_folder();
    for (std::size_t i = 0; i < catalogue.tiles.size(); ++i)
      c.shortlist.tiles.push_back({.tile = told_tile(i, base(q))});
    if (!options.book.empty() && fs::exists(options.book)) c.orders = OrderBook(options.book).list();
    return pages[base(q)] = coverage_live_page(c);
  }

  void show_page(const Request& q, Response& r) {
    const LivePage p = page(q);
    send_page(r, p.html, p.policy);
  }

  void routes() {
    server.set_payload_max_length(kMostAsked);
    server.Get("/", guarded([this](const Request& q, Response& r) {
                 if (q.get_header_value("Accept").find("text/html") == std::string::npos) return send(r, landing(q));
                 show_page(q, r);
               }));
    server.Post("/coverage", guarded([this](const Request& q, Response& r) {
                  const CoverageQuestion asked = parse_coverage_question(parse_json(q.body, "question"));
                  const std::scoped_lock lock(searching);
                  Catalogue near;
                  const Bounds box = transformed(asked.area.bounds(), Transform(asked.area.crs(), Crs::wgs84()));
                  for (std::size_t i = 0; i < catalogue.tiles.size(); ++i)
                    if (meets_on_globe(catalogue.tiles[i].globe_box(), box))
                      near.tiles.push_back(told_tile(i, base(q)));
                  r.set_content(coverage_json(search_coverage(near, asked)), "application/json");
                }));
    server.Get("/conformance", guarded([](const Request&, Response& r) { send(r, {{"conformsTo", conformance()}}); }));
    server.Get("/api", guarded([](const Request&, Response& r) { send(r, api()); }));
    server.Get("/collections", guarded([this](const Request& q, Response& r) {
                 ordered_json list = ordered_json::array();
                 for (const auto& [id, tiles] : surveys) list.push_back(collection(q, id));
                 const std::string b = base(q);
                 send(r, {{"collections", list},
                          {"links", ordered_json::array({link("self", b + "collections"), link("root", b)})}});
               }));
    server.Get(R"(/collections/([^/]+))", guarded([this](const Request& q, Response& r) {
                 survey(q.matches[1]);
                 send(r, collection(q, q.matches[1]));
               }));
    server.Get(R"(/collections/([^/]+)/items)", guarded([this](const Request& q, Response& r) {
                 survey(q.matches[1]);
                 json request = from_parameters(q);
                 request["collections"] = json::array({q.matches[1].str()});
                 search(q, r, request, false);
               }));
    server.Get(R"(/collections/([^/]+)/items/([^/]+))", guarded([this](const Request& q, Response& r) {
                 for (std::size_t i : survey(q.matches[1]))
                   if (catalogue.tiles[i].id == q.matches[2].str())
                     return send(r, item(q, q.matches[1], i), "application/geo+json");
                 refuse(r, 404, "there is no item of that name");
               }));
    server.Get("/search", guarded([this](const Request& q, Response& r) { search(q, r, from_parameters(q), false); }));
    server.Post("/search",
                guarded([this](const Request& q, Response& r) { search(q, r, parse_json(q.body, "search"), true); }));
    server.Get(R"(/files/(.+))", guarded([this](const Request& q, Response& r) {
                 const auto f = files.find(q.matches[1]);
                 if (f == files.end()) return refuse(r, 404, "there is no such file");
                 file(q, r, f->second);
               }));
    job_routes();
    server.set_logger([this](const Request& q, const Response& r) {
      if (options.log)
        options.log(fmt::format("{} {} {} {} B", q.method, q.path, r.status,
                                r.content_length_ ? r.content_length_ : r.body.size()));
    });
  }

  void job_routes() {
    server.Get("/processes", guarded([this](const Request& q, Response& r) {
                 ordered_json p = Jobs::description();
                 p.erase("inputs");
                 p.erase("outputs");
                 p["links"] = ordered_json::array({link("self", base(q) + "processes/extract")});
                 send(r, {{"processes", ordered_json::array({p})},
                          {"links", ordered_json::array({link("self", base(q) + "processes")})}});
               }));
    server.Get("/processes/extract", guarded([this](const Request& q, Response& r) {
                 ordered_json p = Jobs::description();
                 p["links"] = ordered_json::array(
                     {link("http://www.opengis.net/def/rel/ogc/1.0/execute", base(q) + "processes/extract/execution")});
                 send(r, p);
               }));
    server.Post("/processes/extract/execution", guarded([this](const Request& q, Response& r) {
                  const std::string id = jobs->submit(parse_json(q.body, "request"));
                  r.status = 201;
                  r.set_header("Location", base(q) + "jobs/" + id);
                  send(r, told(q, *jobs->status(id)));
                }));
    server.Get("/jobs", guarded([this](const Request& q, Response& r) {
                 send(r, {{"jobs", jobs->all()}, {"links", ordered_json::array({link("self", base(q) + "jobs")})}});
               }));
    server.Get(R"(/jobs/([0-9a-f]+))", guarded([this](const Request& q, Response& r) {
                 const auto s = jobs->status(q.matches[1]);
                 s ? send(r, told(q, *s)) : refuse(r, 404, "there is no such job");
               }));
    server.Delete(R"(/jobs/([0-9a-f]+))", guarded([this](const Request& q, Response& r) {
                    if (!jobs->dismiss(q.matches[1])) return refuse(r, 404, "there is no such job");
                    send(r, told(q, *jobs->status(q.matches[1])));
                  }));
    server.Get(
        R"(/jobs/([0-9a-f]+)/results)", guarded([this](const Request& q, Response& r) {
          const auto s = jobs->status(q.matches[1]);
          if (!s) return refuse(r, 404, "there is no such job");
          const fs::path file = jobs->result(q.matches[1]);
          if (file.empty()) return refuse(r, 404, "the result is not ready: " + s->value("message", ""));
          send(r,
               {{"surface",
                 {{"href", base(q) + "results/" + file.filename().string()}, {"type", "application/octet-stream"}}}});
        }));
    server.Get(R"(/results/([0-9a-f]+)\.([a-z]+))", guarded([this](const Request& q, Response& r) {
                 const fs::path path = jobs->result(q.matches[1]);
                 if (path.empty() || path.extension() != "." + q.matches[2].str())
                   return refuse(r, 404, "there is no such result");
                 ServedFile f{path, fs::file_size(path), "\"" + q.matches[1].str() + "\"", {}, Access::Open};
                 file(q, r, f);
               }));
  }

  ordered_json told(const Request& q, ordered_json s) const {
    const std::string at = base(q) + "jobs/" + s["jobID"].get<std::string>();
    s["links"] = ordered_json::array({link("self", at)});
    if (s["status"] == "successful")
      s["links"].push_back(link("http://www.opengis.net/def/rel/ogc/1.0/results", at + "/results"));
    return s;
  }

  ServiceOptions options;
  Catalogue catalogue;
  std::vector<std::string> hrefs;                           // by tile
  std::map<std::string, std::vector<std::size_t>> surveys;  // tiles by collection
  std::map<std::string, ServedFile> files;
  std::optional<Jobs> jobs;
  std::mutex searching;                   // one search or page at a time: what is asked for at once is bounded
  std::map<std::string, LivePage> pages;  // by the name that the service is called by
  std::atomic<long> count = 0, file_count = 0, part_count = 0;
  httplib::Server server;
  int port = -1;
};

Service::Service(ServiceOptions options) : impl_(std::make_unique<Impl>(std::move(options))) {}
Service::~Service() { stop(); }
std::string Service::address() const { return impl_->address(); }
void Service::run() { impl_->server.listen_after_bind(); }
void Service::stop() { impl_->server.stop(); }

}  // namespace katoptra
