// The products of a surface as one table, a row a product: what the tool has verbs for, what a study may ask for.
//
//   const Product& p = *product_named("slope");
//   Grid steep = p.make(dem, p.settings({{"as", "percent"}}));
//   ProductCall wide = parse_product("slope:as=percent,window=9");
//
// A new product is one function (derivatives.hpp) and one row (src/terrain/products.cpp).
#pragma once
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "katoptra/geo/feature.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra {

enum class SettingKind {
  Angle,   // or nothing, where that is the default, as for lengths
  Number,  // or one of the words
  Word,
  Window,  // an odd number of cells
  Length,
  Lengths,   // a list: 10m,50m
  Area,      // 10ha
  Features,  // the name of a vector file; what it holds is attached
  Time       // 2026-06-21T09:30Z, or nothing
};

struct Setting {
  // "azimuth": --azimuth of the tool, and the key in a study; "kind" is written there with the product's name
  // (curvature = "plan"), for kind is the product.
  std::string name;
  std::string help;
  std::string otherwise;  // when it is not given; nothing: the function decides
  SettingKind kind = SettingKind::Word;
  std::vector<std::string> words;  // of which it must be one
};

// Settings of one product, all of them present and understood.
class Settings {
 public:
  bool has(const std::string& name) const { return values_.count(name) > 0; }
  bool given(const std::string& name) const { return !values_.at(name).empty(); }
  Angle angle(const std::string& name) const;
  double number(const std::string& name) const;  // 0 for a word
  int window(const std::string& name) const;
  Length length(const std::string& name) const;
  std::vector<Length> lengths(const std::string& name) const;
  double area(const std::string& name) const;  // square metres
  const std::string& word(const std::string& name) const { return values_.at(name); }
  // What the file of that setting holds; null where none is given.
  const Layer* features(const std::string& name) const;
  void attach(const std::string& name, Layer layer) { layers_[name] = std::move(layer); }

 private:
  friend struct Product;
  std::map<std::string, std::string> values_;
  std::map<std::string, Layer> layers_;
};

struct Product {
  std::string name;    // "hillshade": the verb, and the kind in a study
  std::string help;    // one line
  QuantityKind gives;  // of its values
  std::vector<Setting> options;
  // Refuses (BadArgument) settings out of range at once; cells are computed when they are read.
  Grid (*make)(const Grid& surface, const Settings& settings);

  // What was given, and for the rest what is otherwise taken. BadArgument for a value that is none, or a name that is
  // no setting of this product.
  Settings settings(const std::map<std::string, std::string>& given = {}) const;
};

const std::vector<Product>& products();
// Null when there is none of that name.
const Product* product_named(std::string_view name);

// A product with its settings, written in one word.
struct ProductCall {
  const Product* product = nullptr;
  Settings settings;
  std::string name;  // for a file: "slope", or with what was set "slope-percent-5"
};
// "slope", "slope:as=percent,window=5". BadArgument, with what there is, for names and settings that there are not.
ProductCall parse_product(std::string_view text);

}  // namespace katoptra
