#include "stac_api.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <iterator>
#include <map>

#include "katoptra/base/progress.hpp"
#include "katoptra/formats/http.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

constexpr int kPage = 500;
constexpr std::size_t kMostPages = 10'000;
// An outline with more corners than this is asked for by its box.
constexpr std::size_t kMostCorners = 200;

bool conforms(const json& landing, std::string_view part) {
  const json& list = member(landing, "conformsTo");
  return list.is_array() && std::any_of(list.begin(), list.end(), [&](const json& c) {
           return c.is_string() && c.get_ref<const std::string&>().find(part) != std::string::npos;
         });
}

struct Link {
  std::string href, method;
  json body;
  bool merge = false;
};
std::optional<Link> link_of(const json& j, const char* rel, const std::string& base, bool post_first = false) {
  const json& links = member(j, "links");
  if (!links.is_array()) return std::nullopt;
  std::optional<Link> found;
  for (const json& l : links) {
    if (word(l, "rel") != rel || word(l, "href").empty()) continue;
    Link link{resolve_url(base, word(l, "href")), word(l, "method"), member(l, "body"), member(l, "merge") == true};
    if (link.method.empty()) link.method = "GET";
    if (!found || (post_first && link.method == "POST")) found = std::move(link);
  }
  return found;
}

class Search {
 public:
  Search(std::string address, const json& landing, const CatalogueQuery& query, const CatalogueOptions& options)
      : address_(std::move(address)), landing_(landing), query_(query), options_(options) {}

  Catalogue run() {
    read_collections();
    auto link = link_of(landing_, "search", address_, true);
    if (!link)
      link = Link{resolve_url(address_.ends_with('/') ? address_ : address_ + "/", "search"), "POST", {}, false};
    ordered_json body = question();
    for (std::size_t page = 0; link; ++page) {
      if (page == kMostPages)
        throw Error(ErrorCode::Network, "its pages do not end", shown_url(address_), "give a smaller area");
      check_host(link->href);
      const std::string text =
          link->method == "POST" ? post(link->href, body) : get(link->href, page == 0 ? body : ordered_json());
      const json answer = parse_json(text, shown_url(link->href));
      const json& features = member(answer, "features");
      if (!features.is_array())
        throw Error(ErrorCode::BadFile, "answers a search with something else than items", shown_url(link->href),
                    "check the address");
      for (const json& f : features) take(f, link->href);
      auto next = link_of(answer, "next", link->href, true);
      if (next && next->body.is_object()) {
        ordered_json more = ordered_json::parse(next->body.dump());
        if (next->merge) {
          ordered_json merged = body;
          merged.update(more);
          more = std::move(merged);
        }
        if (next->method == "POST" && next->href == link->href && more == body) break;  // it would be the same page
        body = std::move(more);
      } else if (next && next->href == link->href) {
        break;
      }
      link = std::move(next);
      if (options_.run.progress) options_.run.progress->check();
    }
    return std::move(out_);
  }

 private:
  void check_host(const std::string& url) const {
    if (is_url(url) && (host_of(url) == host_of(address_) || options_.hosts.count(host_of(url)))) return;
    throw Error(ErrorCode::Refused,
                fmt::format("leads on to {}, which was not named", is_url(url) ? host_of(url) : "no web address"),
                shown_url(address_), "name the host with --host if you trust it");
  }

  std::string post(const std::string& url, const ordered_json& body) const {
    HttpResponse r =
        send_patiently({.url = url,
                        .method = "POST",
                        .headers = {{"Content-Type", "application/json"}, {"Accept", "application/geo+json"}},
                        .body = body.dump(),
                        .progress = options_.run.progress});
    if (!r.ok()) refuse_answer(r);
    return std::move(r.body);
  }
  std::string get(const std::string& url, const ordered_json& body) const {
    std::string full = url;
    for (const auto& [key, value] : body.items()) {
      std::string text = value.is_string() ? value.get<std::string>() : value.dump();
      if (value.is_array() && (key == "bbox" || key == "collections")) {
        text.clear();
        for (const auto& v : value)
          text += (text.empty() ? "" : ",") + (v.is_string() ? v.get<std::string>() : v.dump());
      }
      full += (full.find('?') == full.npos ? "?" : "&") + key + "=" + percent_encoded(text);
    }
    return get_text(full, std::size_t{256} << 20);
  }

  void read_collections() {
    auto link = link_of(landing_, "data", address_);
    if (!link) link = link_of(landing_, "collections", address_);
    for (std::size_t page = 0; link && page < 100; ++page) {
      check_host(link->href);
      const json j = parse_json(get_text(link->href), shown_url(link->href));
      const json& list = member(j, "collections");
      if (!list.is_array()) return;
      for (const json& c : list) {
        SurveyRecord s = survey_of_collection(c.dump());
        out_.surveys.push_back(s);
        surveys_[s.id] = std::move(s);
      }
      link = link_of(j, "next", link->href);
    }
  }

  ordered_json question() const {
    ordered_json q;
    q["limit"] = kPage;
    if (query_.area) {
      const Area area = query_.area->in(Crs::wgs84());
      Bounds b = area.bounds();
      std::size_t corners = 0;
      for (const Polygon& p : area.shape()) corners += p.outer.size();
      const bool usual = b.west >= -180 && b.east <= 180;
      if (usual && corners <= kMostCorners) {
        q["intersects"] = geometry_json(area.shape());
      } else if (b.width() >= 360) {
        q["bbox"] = {-180.0, b.south, 180.0, b.north};
      } else {
        auto turned = [](double x) { return x > 180 ? x - 360 : x < -180 ? x + 360 : x; };
        q["bbox"] = {turned(b.west), b.south, turned(b.east), b.north};
      }
    }
    const TileFilter& f = query_.filter;
    if (f.from_year || f.to_year) {
      const std::string from = f.from_year ? fmt::format("{:04}-01-01T00:00:00Z", *f.from_year) : "..",
                        to = f.to_year ? fmt::format("{:04}-12-31T23:59:59Z", *f.to_year) : "..";
      q["datetime"] = from + "/" + to;
    }
    if (!f.survey.empty()) {
      ordered_json ids = ordered_json::array();
      for (const auto& [id, s] : surveys_)
        if (lower_case(s.title).find(lower_case(f.survey)) != std::string::npos) ids.push_back(id);
      if (!ids.empty()) q["collections"] = ids;
    }
    if (conforms(landing_, "item-search#filter") && conforms(landing_, "basic-cql2") &&
        conforms(landing_, "cql2-json")) {
      ordered_json all = ordered_json::array();
      auto condition = [&](const char* op, const char* property, double value) {
        all.push_back({{"op", op}, {"args", ordered_json::array({{{"property", property}}, value})}});
      };
      // A little more than asked for, as gsd is often rounded; what comes is looked at again.
      if (f.coarsest) condition("<=", "gsd", f.coarsest->metres() * 1.01);
      if (f.density) condition(">=", "pc:density", *f.density * 0.99);
      if (!all.empty()) {
        q["filter-lang"] = "cql2-json";
        q["filter"] = all.size() == 1 ? all[0] : ordered_json{{"op", "and"}, {"args", all}};
      }
    }
    return q;
  }

  void take(const json& feature, const std::string& at) {
    if (out_.tiles.size() >= options_.most_items)
      throw Error(ErrorCode::TooLarge, fmt::format("has more than {} tiles there", options_.most_items),
                  shown_url(address_), "give a smaller area");
    const auto survey = surveys_.find(word(feature, "collection"));
    try {
      auto tiles = tiles_of_item(feature.dump(), {item_address(feature, at), options_.hosts,
                                                  survey == surveys_.end() ? nullptr : &survey->second});
      std::move(tiles.begin(), tiles.end(), std::back_inserter(out_.tiles));
    } catch (const Error& e) {
      if (e.code() != ErrorCode::BadFile) throw;
      if (out_.notes.size() < 20) out_.notes.push_back(e.what());
    }
  }

  // References in an item count from where the item stands, as long as that is on the same host.
  static std::string item_address(const json& feature, const std::string& at) {
    const auto self = link_of(feature, "self", at);
    return self && is_url(self->href) && host_of(self->href) == host_of(at) ? self->href : at;
  }

  std::string address_;
  const json& landing_;
  const CatalogueQuery& query_;
  const CatalogueOptions& options_;
  std::map<std::string, SurveyRecord> surveys_;
  Catalogue out_;
};

}  // namespace

bool is_stac_api(const json& landing) { return conforms(landing, "item-search"); }

Catalogue search_stac_api(const std::string& address, const json& landing, const CatalogueQuery& query,
                          const CatalogueOptions& options) {
  return Search(address, landing, query, options).run();
}

}  // namespace katoptra
