// Tables of TOML with the keys they may have: studies, styles of maps. What is wrong is told with its line.
#pragma once
#include <algorithm>
#include <fmt/format.h>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <toml++/toml.h>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

namespace katoptra {

// One table of a file, with the keys it may have; anything else is a typing error and is said so.
class TableReader {
 public:
  TableReader(const toml::table* table, std::string name, std::string file, const std::vector<std::string>& keys,
              const std::string& of = {}, const char* advice = "see docs/study.md")
      : table_(table), name_(std::move(name)), file_(std::move(file)), advice_(advice) {
    if (!table_) return;
    const std::set<std::string_view> known(keys.begin(), keys.end());
    for (const auto& [key, node] : *table_)
      if (!known.count(key.str())) fail(node, fmt::format("'{}' is not known in [{}]{}", key.str(), name_, of));
  }
  // For keys that follow from what stands in it.
  TableReader(const toml::table* table, std::string name, std::string file)
      : table_(table), name_(std::move(name)), file_(std::move(file)) {}
  explicit operator bool() const { return table_ != nullptr; }

  [[noreturn]] void refuse(const char* key, const std::string& what, const std::string& advice) const {
    throw Error(ErrorCode::BadFile, what, fmt::format("{} line {}", file_, node(key)->source().begin.line), advice);
  }

  std::string text(const char* key, const std::string& otherwise = {}) const {
    const auto* n = node(key);
    if (!n) return otherwise;
    if (const auto v = n->value<std::string>(); v && n->is_string()) return *v;
    fail(*n, fmt::format("'{}' must be text in quotes", key));
  }
  // As it is written, text in quotes or a number; empty when it is not there.
  std::string value(const char* key, bool number_wanted) const {
    const auto* n = node(key);
    if (!n) return {};
    return number_wanted ? fmt::format("{}", number(key, 0)) : text(key);
  }
  bool is_text(const char* key) const {
    const auto* n = node(key);
    return n && n->is_string();
  }
  double number(const char* key, double otherwise) const {
    const auto* n = node(key);
    if (!n) return otherwise;
    if (const auto v = n->value<double>(); v && n->is_number()) return *v;
    fail(*n, fmt::format("'{}' must be a number", key));
  }
  bool flag(const char* key, bool otherwise) const {
    const auto* n = node(key);
    if (!n) return otherwise;
    if (const auto v = n->value<bool>(); v && n->is_boolean()) return *v;
    fail(*n, fmt::format("'{}' must be true or false", key));
  }
  std::vector<std::string> list(const char* key) const {
    std::vector<std::string> out;
    const auto* n = node(key);
    if (!n) return out;
    const auto* array = n->as_array();
    if (!array) fail(*n, fmt::format("'{}' must be a list", key));
    for (const auto& item : *array) {
      if (!item.is_string()) fail(item, fmt::format("'{}' must be a list of words in quotes", key));
      out.push_back(*item.value<std::string>());
    }
    return out;
  }
  // Text that is understood by `parse`; its error gains the place.
  template <class Parse>
  auto parsed(const char* key, const Parse& parse) const -> std::optional<decltype(parse(std::string()))> {
    if (!node(key)) return std::nullopt;
    const std::string t = text(key);
    if (t.empty()) fail(*node(key), fmt::format("'{}' is empty", key));
    try {
      return parse(t);
    } catch (const Error& e) {
      throw Error(ErrorCode::BadFile, e.problem(),
                  fmt::format("{} line {}, {}", file_, node(key)->source().begin.line, key), e.advice());
    }
  }
  bool has(const char* key) const { return node(key) != nullptr; }
  // "1:5000"; 0 where there is none.
  double scale(const char* key) const {
    const auto scale = parsed(key, [](const std::string& x) {
      const auto n = parse_number(x.starts_with("1:") ? x.substr(2) : x);
      if (!n || !(*n > 0))
        throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no scale", x), "scale", "write 1:5000");
      return *n;
    });
    return scale.value_or(0);
  }
  std::optional<Length> length(const char* key) const {
    return parsed(key, [](const std::string& t) { return Length::parse(t); });
  }

 private:
  const toml::node* node(const char* key) const { return table_ ? table_->get(key) : nullptr; }
  [[noreturn]] void fail(const toml::node& n, const std::string& what) const {
    throw Error(ErrorCode::BadFile, what, fmt::format("{} line {}", file_, n.source().begin.line), advice_);
  }

  const toml::table* table_;
  std::string name_, file_;
  const char* advice_ = "see docs/study.md";
};

[[noreturn]] inline void refuse_shape(const toml::node& n, const std::string& file, const std::string& is,
                                      const std::string& wanted) {
  throw Error(ErrorCode::BadFile, is, fmt::format("{} line {}", file, n.source().begin.line), "write " + wanted);
}

// [name], or null; anything else of that name is an error.
inline const toml::table* table_of(const toml::table& root, const char* name, const std::string& file) {
  const toml::node* n = root.get(name);
  if (n && !n->is_table()) refuse_shape(*n, file, fmt::format("'{}' is no table", name), fmt::format("[{}]", name));
  return n ? n->as_table() : nullptr;
}

// All [[name]]; anything else of that name is an error.
inline const toml::array* tables_of(const toml::table& root, const char* name, const std::string& file) {
  const toml::node* n = root.get(name);
  if (!n) return nullptr;
  const toml::array* list = n->as_array();
  if (!list || !std::all_of(list->begin(), list->end(), [](const toml::node& i) { return i.is_table(); }))
    refuse_shape(*n, file, fmt::format("'{}' is no list of tables", name), fmt::format("[[{}]] above each", name));
  return list;
}

}  // namespace katoptra
