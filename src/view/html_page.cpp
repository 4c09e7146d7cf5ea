#include "html_page.hpp"

#include <fmt/format.h>

#include "katoptra/base/checksum.hpp"
#include "katoptra/version.hpp"

#include "base/base64.hpp"
#include "base/text.hpp"
#include "web.hpp"

namespace katoptra {
namespace {

// A source of a policy: only the text with this checksum is run.
std::string only(std::string_view text) {
  Sha256 sum;
  sum.add({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
  const std::string hex = sum.hex();
  std::vector<std::uint8_t> raw;
  for (std::size_t i = 0; i < hex.size(); i += 2)
    raw.push_back(static_cast<std::uint8_t>(std::stoi(hex.substr(i, 2), nullptr, 16)));
  return "'sha256-" + base64(raw) + "'";
}

// The library as it came, without what would end its element; it is the same for every page.
const std::string& three_policy() {
  static const std::string policy = only(web_part("three.js"));
  return policy;
}

}  // namespace

std::string json_for_page(const nlohmann::ordered_json& j) {
  const std::string text = j.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace);
  std::string out;
  out.reserve(text.size());
  for (const char c : text) {
    if (c == '<')
      out += "\\u003c";
    else if (c == '>')
      out += "\\u003e";
    else if (c == '&')
      out += "\\u0026";
    else
      out += c;
  }
  return out;
}

HtmlPage::HtmlPage(std::string title, std::string entry, Reaches reaches)
    : title_(std::move(title)), scripts_(joined_modules(entry)), style_(web_part("style.css")), reaches_(reaches) {}

void HtmlPage::json(const std::string& id, const nlohmann::ordered_json& j) {
  data_ += fmt::format("<script type=\"application/json\" id=\"{}\">", id) + json_for_page(j) + "</script>\n";
}

void HtmlPage::bytes(const std::string& id, const std::vector<std::uint8_t>& bytes) {
  data_ += fmt::format("<script type=\"application/octet-stream\" id=\"{}\">", id) + base64(bytes) + "</script>\n";
}

std::string HtmlPage::policy(bool in_header) const {
  return fmt::format(
      "default-src 'none'; script-src {}{}; style-src {}; img-src data: blob:; connect-src {}; base-uri 'none'; "
      "form-action 'none'{}",
      three_ ? three_policy() + " " : "", only(scripts_), only(style_),
      reaches_ == Reaches::ItsServer ? "'self'" : "'none'", in_header ? "; frame-ancestors 'none'" : "");
}

std::string HtmlPage::html() const {
  std::string out = fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"{}\">\n"
      "<meta name=\"viewport\" content=\"width=device-width,initial-scale=1\">\n"
      "<meta name=\"generator\" content=\"Katoptra {}\">\n<meta name=\"color-scheme\" content=\"light dark\">\n"
      "<title>{}</title>\n<style>",
      policy(false), KATOPTRA_VERSION, xml_text(title_));
  out += style_;
  out += look_.empty() ? "</style>\n</head>\n<body>\n" : "</style>\n</head>\n<body class=\"" + look_ + "\">\n";
  out += body_;
  if (body_.empty())
    out +=
        "<p id=\"saying\" role=\"status\">This page is being read. If this stays here, the page is not whole: fetch or "
        "write it again.</p>\n"
        "<noscript><p class=\"saying\">This page draws itself by scripts, which this browser does not run. Nothing in "
        "it "
        "is loaded from elsewhere.</p></noscript>\n";
  // Scripts first: a page that was cut off can still say so.
  if (three_) {
    out += "<script>";
    out += web_part("three.js");
    out += "</script>\n";
  }
  out += "<script>" + scripts_ + "</script>\n" + data_;
  out += "<script type=\"application/json\" id=\"whole\">true</script>\n</body>\n</html>\n";
  return out;
}

}  // namespace katoptra
