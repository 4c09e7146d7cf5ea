#include "search.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "catalogue/stac_json.hpp"

namespace katoptra {
namespace {

[[noreturn]] void wrong_search(const std::string& what) { throw Error(ErrorCode::BadArgument, what, "search"); }

std::vector<Bounds> boxes_of(const json& b) {
  if (!b.is_array() || (b.size() != 4 && b.size() != 6)) wrong_search("bbox is no list of four or six numbers");
  for (const json& v : b)
    if (!v.is_number()) wrong_search("bbox is no list of four or six numbers");
  const std::size_t n = b.size() / 2;
  const Bounds box{b[0].get<double>(), b[1].get<double>(), b[n].get<double>(), b[n + 1].get<double>()};
  if (!(box.south <= box.north)) wrong_search("the south of bbox lies above its north");
  if (box.west <= box.east) return {box};
  return {{box.west, box.south, 180, box.north}, {-180, box.south, box.east, box.north}};
}

json operand(const json& j, const json& item) {
  if (!j.is_object()) return j;
  if (j.contains("date")) return j["date"];
  if (j.contains("timestamp")) return j["timestamp"];
  const std::string name = word(j, "property");
  if (name.empty()) wrong_search("the filter has an operand that is not understood");
  if (name == "id" || name == "collection") return member(item, name.c_str());
  return member(member(item, "properties"), name.c_str());
}

bool holds(const json& f, const json& item, int depth = 0) {
  const std::string op = word(f, "op");
  const json& args = member(f, "args");
  if (depth > 16 || op.empty() || !args.is_array() || args.empty())
    wrong_search("the filter is no CQL2 JSON that is understood");
  if (op == "and")
    return std::all_of(args.begin(), args.end(), [&](const json& a) { return holds(a, item, depth + 1); });
  if (op == "or")
    return std::any_of(args.begin(), args.end(), [&](const json& a) { return holds(a, item, depth + 1); });
  if (op == "not") return !holds(args[0], item, depth + 1);
  const json a = operand(args[0], item);
  if (op == "isNull") return a.is_null();
  if (args.size() < 2) wrong_search("the filter compares with nothing");
  if (a.is_null()) return false;
  if (op == "in") return args[1].is_array() && std::find(args[1].begin(), args[1].end(), a) != args[1].end();
  if (op == "between") return args.size() == 3 && a >= operand(args[1], item) && a <= operand(args[2], item);
  const json b = operand(args[1], item);
  if (op == "=") return a == b;
  if (op == "<>") return a != b;
  if (a.is_number() != b.is_number()) return false;
  if (op == "<") return a < b;
  if (op == "<=") return a <= b;
  if (op == ">") return a > b;
  if (op == ">=") return a >= b;
  wrong_search(fmt::format("the filter has an operation '{}' that is not known", op));
}

}  // namespace

ItemSearch parse_item_search(const json& q, std::size_t most) {
  ItemSearch s;
  if (!q.is_object()) wrong_search("the request is no JSON object");
  if (q.contains("bbox") && q.contains("intersects")) wrong_search("bbox and intersects exclude each other");
  if (q.contains("bbox")) s.boxes = boxes_of(q["bbox"]);
  if (q.contains("intersects")) {
    s.shape = polygons_of(q["intersects"], "search");
    if (s.shape->empty()) wrong_search("intersects is no polygon");
  }
  if (const std::string t = word(q, "datetime"); !t.empty()) {
    const auto slash = t.find('/');
    s.from = t.substr(0, slash);
    s.to = slash == t.npos ? s.from : t.substr(slash + 1);
    if (s.from == "..") s.from.clear();
    if (s.to == "..") s.to.clear();
  }
  for (auto [key, set] : {std::pair{"collections", &s.collections}, std::pair{"ids", &s.ids}})
    if (const json& list = member(q, key); list.is_array())
      for (const json& v : list)
        if (v.is_string()) set->insert(v.get<std::string>());
  if (q.contains("filter")) s.filter = q["filter"];
  s.limit = static_cast<std::size_t>(std::clamp(number(q, "limit", 10), 1.0, static_cast<double>(most)));
  s.offset = static_cast<std::size_t>(std::clamp(std::atof(word(q, "token").c_str()), 0.0, 1e12));
  return s;
}

bool ItemSearch::matches(const json& item) const {
  if (!collections.empty() && !collections.count(word(item, "collection"))) return false;
  if (!ids.empty() && !ids.count(word(item, "id"))) return false;
  const json& props = member(item, "properties");
  const std::string moment = word(props, "datetime");
  if (!from.empty() && moment < from) return false;
  if (!to.empty() && (moment.empty() || moment > to)) return false;
  if (!boxes.empty() || shape) {
    const MultiPolygon outline = polygons_of(member(item, "geometry"), "item");
    if (outline.empty()) return false;
    const Bounds own = bounds_of(outline);
    if (!boxes.empty() && std::none_of(boxes.begin(), boxes.end(), [&](const Bounds& b) { return b.intersects(own); }))
      return false;
    if (shape && (!bounds_of(*shape).intersects(own) || overlay(*shape, outline, Overlay::Intersection).empty()))
      return false;
  }
  return !filter || holds(*filter, item);
}

}  // namespace katoptra
