#include "item_scan.hpp"

#include <charconv>
#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <limits>
#include <utility>

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
      // An escaped quote has an odd number of backslashes before it; "\\\\" ends with a plain one.
      std::size_t slashes = 0;
      do {
        while ((close = feed.text.find('"', at + 1)) == std::string::npos) need(feed.text.size());
        at = close;
        for (slashes = 0; feed.text[at - 1 - slashes] == '\\';) ++slashes;
      } while (slashes % 2 == 1);
      ++at;
    } else {
      while (feed.text[at] != ',' && feed.text[at] != '}') need(++at);
      if (feed.text[at] == '}') no_items(file, "it has no features");
    }
  }
}

// Goes through an item once, remembers the few members that the index needs, and steps over the rest. Five times as
// fast as a parser that makes values; what an item means in full is looked at when a search finds it.
class KeyScan {
 public:
  explicit KeyScan(std::string_view text) : at_(text.data()), end_(text.data() + text.size()) {}
  ItemKeys keys;
  bool feature = false;

  // False when it is no JSON object.
  bool run() {
    blank();
    if (!take('{')) return false;
    blank();
    if (take('}')) return at_ == end_;
    while (true) {
      std::string_view key;
      blank();
      if (!string(key)) return false;
      blank();
      if (!take(':')) return false;
      blank();
      if (!member(key)) return false;
      blank();
      if (take('}')) break;
      if (!take(',')) return false;
    }
    finish();
    return true;
  }

 private:
  bool member(std::string_view key) {
    if (key == "bbox") return skip(0, [this](double v) { box_.push_back(v); });
    // Positions in turn x and y; a third number would be a height, which no outline of ours has.
    if (key == "geometry")
      return skip(0, [this](double v) {
        if (std::exchange(x_given_, !x_given_)) outline_.include(Point{x_, v});
        x_ = v;
      });
    const bool wanted = key == "id" || key == "collection" || key == "type";
    if (!wanted || at_ == end_ || *at_ != '"') return skip(0, [](double) {});
    std::string_view text;
    const char* const from = at_;
    if (!string(text)) return false;
    std::string value(text);
    // Escapes are rare in names; where there are any, the parser knows best.
    if (text.find('\\') != text.npos) {
      const json j = json::parse(from, at_, nullptr, false);
      if (!j.is_string()) return false;
      value = j.get<std::string>();
    }
    if (key == "id") keys.id = value;
    if (key == "collection") keys.collection = value;
    if (key == "type") feature = value == "Feature";
    return true;
  }

  void blank() {
    while (at_ < end_ && (*at_ == ' ' || *at_ == '\n' || *at_ == '\r' || *at_ == '\t')) ++at_;
  }
  bool take(char c) {
    if (at_ == end_ || *at_ != c) return false;
    ++at_;
    return true;
  }
  // What stands between the quotes, escapes as they are.
  bool string(std::string_view& out) {
    if (!take('"')) return false;
    const char* const from = at_;
    while (true) {
      const auto* quote = static_cast<const char*>(std::memchr(at_, '"', static_cast<std::size_t>(end_ - at_)));
      if (!quote) return false;
      const char* b = quote;
      while (b > from && *(b - 1) == '\\') --b;
      at_ = quote + 1;
      if ((quote - b) % 2 == 0) {
        out = {from, static_cast<std::size_t>(quote - from)};
        return true;
      }
    }
  }
  // Steps over a value; numbers in it are handed to `number`.
  template <class Number>
  bool skip(int depth, const Number& number) {
    if (at_ == end_ || depth > kDeepestJson) return false;
    std::string_view text;
    const char c = *at_;
    if (c == '"') return string(text);
    if (c == '{' || c == '[') {
      ++at_;
      const char close = c == '{' ? '}' : ']';
      blank();
      if (take(close)) return true;
      while (true) {
        blank();
        if (c == '{') {
          if (!string(text)) return false;
          blank();
          if (!take(':')) return false;
          blank();
        }
        if (!skip(depth + 1, number)) return false;
        blank();
        if (take(close)) return true;
        if (!take(',')) return false;
      }
    }
    for (std::string_view known : {"true", "false", "null"})
      if (static_cast<std::size_t>(end_ - at_) >= known.size() && std::memcmp(at_, known.data(), known.size()) == 0) {
        at_ += known.size();
        return true;
      }
    double v = 0;
    const auto [end, error] = std::from_chars(at_, end_, v);
    if (error != std::errc() && error != std::errc::result_out_of_range) return false;
    if (!(c == '-' || (c >= '0' && c <= '9'))) return false;
    at_ = end;
    number(v);
    return true;
  }

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

  const char *at_, *end_;
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
  KeyScan scan(item);
  if (!scan.run() || !scan.feature || scan.keys.id.empty())
    throw Error(ErrorCode::BadFile, fmt::format("a feature is no STAC item: {}...", item.substr(0, 60)), where,
                "tell who publishes it");
  return std::move(scan.keys);
}

}  // namespace katoptra
