#include "wkt.hpp"

#include <cctype>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

std::string list_of(const LineString& line, const std::vector<double>* heights = nullptr) {
  std::string s = "(";
  for (std::size_t i = 0; i < line.size(); ++i) {
    s += fmt::format("{}{:.12g} {:.12g}", i ? ", " : "", line[i].x, line[i].y);
    if (heights) s += fmt::format(" {}", (*heights)[i]);
  }
  return s + ")";
}

class WktReader {
 public:
  WktReader(const std::string& text, const std::string& where) : text_(text), where_(where) {}

  std::vector<Feature> all() {
    std::vector<Feature> out;
    geometry(out, 0);
    blanks();
    if (at_ < text_.size()) damaged("has more behind its geometry");
    return out;
  }

 private:
  [[noreturn]] void damaged(const std::string& what) const {
    throw Error(ErrorCode::BadFile, fmt::format("'{}' {}", text_.substr(0, 60), what), where_,
                "write for instance LINESTRING (1 2, 3 4)");
  }
  void blanks() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
  }
  std::string word() {
    blanks();
    std::string w;
    while (at_ < text_.size() && std::isalpha(static_cast<unsigned char>(text_[at_]))) w += text_[at_++];
    return lower_case(w);
  }
  bool takes(char c) {
    blanks();
    if (at_ >= text_.size() || text_[at_] != c) return false;
    ++at_;
    return true;
  }
  void expect(char c) {
    if (!takes(c)) damaged(fmt::format("lacks a '{}'", c));
  }
  double number() {
    blanks();
    const std::size_t end = std::min(text_.find_first_of(" ,;()\t\r\n", at_), text_.size());
    const auto v = parse_number(text_.substr(at_, end - at_));
    if (!v) damaged("has a coordinate that is no number");
    at_ = end;
    return *v;
  }

  // x y, and z as the words before say.
  Point place(std::vector<double>* heights) {
    const double x = number();
    Point p{x, number()};
    for (int k = 0; blanks(), at_ < text_.size() && text_[at_] != ',' && text_[at_] != ')'; ++k) {
      const double v = number();
      if (k == 0 && heights && has_z_) heights->push_back(v);
    }
    return p;
  }
  LineString list(std::vector<double>* heights) {
    LineString line;
    expect('(');
    do line.push_back(place(heights));
    while (takes(','));
    expect(')');
    return line;
  }
  Polygon polygon() {
    Polygon p;
    expect('(');
    bool first = true;
    do {
      Ring r = list(nullptr);
      if (r.size() < 4) damaged("has a ring of fewer than three corners");
      (first ? p.outer : p.holes.emplace_back()) = std::move(r);
      first = false;
    } while (takes(','));
    expect(')');
    return p;
  }
  bool is_empty() {
    const std::size_t before = at_;
    if (word() == "empty") return true;
    at_ = before;
    return false;
  }

  void geometry(std::vector<Feature>& out, int depth) {
    std::string kind = word();
    if (kind == "srid" && takes('=')) {
      number();
      expect(';');
      kind = word();
    }
    has_z_ = true;  // three numbers without a word are x, y and z
    const std::size_t before = at_;
    const std::string more = word();
    if (more == "m")
      has_z_ = false;
    else if (more != "z" && more != "zm")
      at_ = before;
    if (is_empty()) return;
    Feature f{Point{}, {}, {}};
    if (kind == "point") {
      f.geometry = list(&f.heights).front();
      if (f.heights.size() > 1) f.heights.erase(f.heights.begin() + 1, f.heights.end());
      out.push_back(std::move(f));
    } else if (kind == "linestring") {
      f.geometry = list(&f.heights);
      out.push_back(std::move(f));
    } else if (kind == "polygon") {
      out.push_back({MultiPolygon{polygon()}, {}, {}});
    } else if (kind == "multipolygon") {
      MultiPolygon shape;
      expect('(');
      do shape.push_back(polygon());
      while (takes(','));
      expect(')');
      out.push_back({std::move(shape), {}, {}});
    } else if (kind == "multilinestring" || kind == "multipoint") {
      expect('(');
      do {
        Feature one{Point{}, {}, {}};
        blanks();
        if (kind == "multilinestring")
          one.geometry = list(&one.heights);
        else if (at_ < text_.size() && text_[at_] == '(')
          one.geometry = list(&one.heights).front();
        else
          one.geometry = place(&one.heights);
        out.push_back(std::move(one));
      } while (takes(','));
      expect(')');
    } else if (kind == "geometrycollection" && depth < 8) {
      expect('(');
      do geometry(out, depth + 1);
      while (takes(','));
      expect(')');
    } else {
      damaged("is no geometry that is known here");
    }
  }

  const std::string& text_;
  const std::string& where_;
  std::size_t at_ = 0;
  bool has_z_ = false;
};

}  // namespace

std::string wkt_of(const Feature& f) {
  const bool heights = has_heights(f);
  const char* z = heights ? " Z " : " ";
  if (const auto* p = std::get_if<Point>(&f.geometry))
    return "POINT" + std::string(z) + list_of({*p}, heights ? &f.heights : nullptr);
  if (const auto* l = std::get_if<LineString>(&f.geometry))
    return "LINESTRING" + std::string(z) + list_of(*l, heights ? &f.heights : nullptr);
  std::string s = "MULTIPOLYGON (";
  const auto& shape = std::get<MultiPolygon>(f.geometry);
  for (std::size_t i = 0; i < shape.size(); ++i) {
    s += (i ? ", (" : "(") + list_of(shape[i].outer);
    for (const Ring& hole : shape[i].holes) s += ", " + list_of(hole);
    s += ")";
  }
  return s + ")";
}

std::vector<Feature> features_of_wkt(const std::string& text, const std::string& where) {
  return WktReader(text, where).all();
}

}  // namespace katoptra
