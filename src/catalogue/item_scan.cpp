#include "item_scan.hpp"

#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>

#include "katoptra/geo/geometry.hpp"

#include "stac_json.hpp"

namespace katoptra {
namespace {

constexpr std::size_t kMostItem = std::size_t{16} << 20;

// Where a JSON value that begins at `from` ends: the position behind its closing bracket; npos when `text` ends first.
std::size_t end_of_object(std::string_view text, std::size_t from) {
  int depth = 0;
  const char* p = text.data() + from;
  const char* const end = text.data() + text.size();
  for (; p < end; ++p) {
    const char c = *p;
    if (c == '"') {
      // To the closing quote; an escaped one has an odd number of backslashes before it.
      do {
        p = static_cast<const char*>(std::memchr(p + 1, '"', static_cast<std::size_t>(end - p - 1)));
        if (!p) return std::string_view::npos;
        const char* b = p;
        while (*(b - 1) == '\\') --b;
        if ((p - b) % 2 == 0) break;
      } while (true);
    } else if (c == '{' || c == '[') {
      ++depth;
    } else if (c == '}' || c == ']') {
      if (--depth == 0) return static_cast<std::size_t>(p - text.data()) + 1;
    }
  }
  return std::string_view::npos;
}

// Text of the file that comes in as it is needed.
class Feed {
 public:
  explicit Feed(const ByteSource& file) : file_(file) {}
  // More behind what is there; false at the end.
  bool grow(std::size_t by) {
    if (at_ >= file_.size()) return false;
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(by, file_.size() - at_));
    const std::size_t old = text.size();
    text.resize(old + n);
    file_.read_exactly(at_, std::span(reinterpret_cast<std::uint8_t*>(text.data() + old), n));
    at_ += n;
    return true;
  }
  std::string text;

 private:
  const ByteSource& file_;
  std::uint64_t at_ = 0;
};

[[noreturn]] void no_items(const ByteSource& file, const char* why) {
  throw Error(ErrorCode::BadFile, fmt::format("is no collection of items: {}", why), file.name(),
              "give a STAC ItemCollection (a GeoJSON FeatureCollection)");
}

// The position behind the '[' of the member "features" of the outer object.
std::size_t features_begin(Feed& feed, const ByteSource& file) {
  std::size_t at = 0;
  auto need = [&](std::size_t i) {
    while (i >= feed.text.size())
      if (!feed.grow(std::size_t{1} << 20)) no_items(file, "it ends before its features");
  };
  auto skip = [&] {
    for (need(at); std::isspace(static_cast<unsigned char>(feed.text[at])) || feed.text[at] == ',' ||
                   static_cast<unsigned char>(feed.text[at]) >= 0xBB;
         need(++at)) {
    }
  };
  skip();
  if (feed.text[at] != '{') no_items(file, "it is no JSON object");
  ++at;
  while (true) {
    skip();
    if (feed.text[at] != '"') no_items(file, "it has no features");
    std::size_t close;
    while ((close = feed.text.find('"', at + 1)) == std::string::npos) need(feed.text.size());
    const std::string key = feed.text.substr(at + 1, close - at - 1);
    at = close + 1;
    skip();
    if (feed.text[at] != ':') no_items(file, "it is no JSON object");
    ++at;
    skip();
    if (key == "features") {
      if (feed.text[at] != '[') no_items(file, "its features are no list");
      return at + 1;
    }
    if (feed.text[at] == '{' || feed.text[at] == '[') {
      std::size_t end;
      while ((end = end_of_object(feed.text, at)) == std::string_view::npos) {
        if (feed.text.size() > kMostItem) no_items(file, "one of its members is too large");
        need(feed.text.size());
      }
      at = end;
    } else if (feed.text[at] == '"') {
      do {
        while ((close = feed.text.find('"', at + 1)) == std::string::npos) need(feed.text.size());
        at = close;
      } while (feed.text[at - 1] == '\\');
      ++at;
    } else {
      while (feed.text[at] != ',' && feed.text[at] != '}') need(++at);
      if (feed.text[at] == '}') no_items(file, "it has no features");
    }
  }
}

// Remembers the few members that the index needs and steps over the rest.
class KeySax : public nlohmann::json_sax<json> {
 public:
  ItemKeys keys;
  bool feature = false;

  bool null() override { return value(); }
  bool boolean(bool) override { return value(); }
  bool number_integer(number_integer_t v) override { return real(static_cast<double>(v)); }
  bool number_unsigned(number_unsigned_t v) override { return real(static_cast<double>(v)); }
  bool number_float(number_float_t v, const string_t&) override { return real(v); }
  bool string(string_t& s) override {
    if (depth_ == 1) {
      if (member_ == Member::Id) keys.id = s;
      if (member_ == Member::Collection) keys.collection = s;
      if (member_ == Member::Type) feature = s == "Feature";
    }
    return value();
  }
  bool binary(binary_t&) override { return value(); }
  bool start_object(std::size_t) override { return ++depth_ < kDeepestJson; }
  bool end_object() override {
    --depth_;
    return true;
  }
  bool start_array(std::size_t) override { return ++depth_ < kDeepestJson; }
  bool end_array() override {
    --depth_;
    return true;
  }
  bool key(string_t& k) override {
    if (depth_ == 1)
      member_ = k == "id"           ? Member::Id
                : k == "collection" ? Member::Collection
                : k == "type"       ? Member::Type
                : k == "bbox"       ? Member::Box
                : k == "geometry"   ? Member::Geometry
                                    : Member::Other;
    return true;
  }
  bool parse_error(std::size_t, const std::string&, const nlohmann::detail::exception&) override { return false; }

  void finish() {
    Bounds b;
    if (box_.size() == 4) b = {box_[0], box_[1], box_[2], box_[3]};
    if (box_.size() == 6) b = {box_[0], box_[1], box_[3], box_[4]};
    if (b.west > b.east) b.east += 360;
    if (b.empty()) b = outline_;
    if (b.empty() || !std::isfinite(b.width()) || !std::isfinite(b.height())) return;
    constexpr float kInfinity = std::numeric_limits<float>::infinity();
    auto down = [&](double v) { return std::nextafter(static_cast<float>(v), -kInfinity); };
    auto up = [&](double v) { return std::nextafter(static_cast<float>(v), kInfinity); };
    keys.west = down(b.west);
    keys.south = down(b.south);
    keys.east = up(b.east);
    keys.north = up(b.north);
    keys.placed = true;
  }

 private:
  enum class Member { Other, Id, Collection, Type, Box, Geometry };
  static bool value() { return true; }
  bool real(double v) {
    if (member_ == Member::Box && depth_ == 2) box_.push_back(v);
    // Positions in a geometry: x and y in turn; a third number would be a height, which none of ours has.
    if (member_ == Member::Geometry) {
      if (x_given_) outline_.include(Point{x_, v});
      x_ = v;
      x_given_ = !x_given_;
    }
    return true;
  }
  Member member_ = Member::Other;
  int depth_ = 0;
  std::vector<double> box_;
  Bounds outline_;
  double x_ = 0;
  bool x_given_ = false;
};

}  // namespace

void for_each_item_batch(
    const ByteSource& file, std::size_t batch,
    const std::function<void(std::shared_ptr<const std::string>, std::vector<std::string_view>)>& body) {
  Feed feed(file);
  std::size_t at = features_begin(feed, file);
  feed.text.erase(0, at);
  bool more = true, closed = false;
  while (more && !closed) {
    more = feed.grow(batch);
    std::vector<std::pair<std::size_t, std::size_t>> ends;
    at = 0;
    while (true) {
      while (at < feed.text.size() && (feed.text[at] == ',' || std::isspace(static_cast<unsigned char>(feed.text[at]))))
        ++at;
      if (at == feed.text.size()) break;
      if (feed.text[at] == ']') {
        closed = true;
        break;
      }
      if (feed.text[at] != '{') no_items(file, "a feature is no object");
      const std::size_t end = end_of_object(feed.text, at);
      if (end == std::string_view::npos) break;
      ends.emplace_back(at, end);
      at = end;
    }
    if (feed.text.size() - at > kMostItem && !closed) no_items(file, "one of its features is too large");
    if (!more && !closed) no_items(file, "it ends within its features");
    if (ends.empty()) continue;
    std::string rest = feed.text.substr(at);
    const auto whole = std::make_shared<const std::string>(std::move(feed.text));
    feed.text = std::move(rest);
    std::vector<std::string_view> items;
    for (const auto& [from, to] : ends) items.push_back(std::string_view(*whole).substr(from, to - from));
    body(whole, std::move(items));
  }
}

ItemKeys keys_of_item(std::string_view item, const std::string& where) {
  KeySax sax;
  if (!json::sax_parse(item.begin(), item.end(), &sax) || !sax.feature || sax.keys.id.empty())
    throw Error(ErrorCode::BadFile, fmt::format("a feature is no STAC item: {}...", item.substr(0, 60)), where,
                "tell who publishes it");
  sax.finish();
  return std::move(sax.keys);
}

}  // namespace katoptra
