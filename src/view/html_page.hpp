// What all pages share: one file with its style, its scripts and its data, that runs nothing else.
#pragma once
#include <cstdint>
#include <nlohmann/json.hpp>
#include <string>
#include <utility>
#include <vector>

namespace katoptra {

// JSON between the tags of a page: nothing in it can end the element it stands in, and what is not UTF-8 is replaced.
std::string json_for_page(const nlohmann::ordered_json& j);

enum class Reaches { Nothing, ItsServer };  // what a page may ask for over the network

// Where packed numbers are put under a name: a page, or the answer of a service.
class PageData {
 public:
  virtual ~PageData() = default;
  virtual void bytes(const std::string& id, const std::vector<std::uint8_t>& bytes) = 0;
};

class HtmlPage : public PageData {
 public:
  // `entry`: the module that draws the page, "view/main.js".
  HtmlPage(std::string title, std::string entry, Reaches reaches = Reaches::Nothing);
  void needs_three() { three_ = true; }
  // Markup of a page that says what it has to say without scripts, too; its texts are escaped already. `look`: the
  // class of the body.
  void body(std::string markup, std::string look) {
    body_ = std::move(markup);
    look_ = std::move(look);
  }
  void json(const std::string& id, const nlohmann::ordered_json& j);
  void bytes(const std::string& id, const std::vector<std::uint8_t>& bytes) override;

  std::string html() const;
  // What a server says about the page in its header, with what a page cannot say of itself.
  std::string policy(bool in_header) const;

 private:
  std::string title_, scripts_, style_, body_, look_, data_;
  Reaches reaches_;
  bool three_ = false;
};

}  // namespace katoptra
