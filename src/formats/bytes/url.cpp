// Web addresses as text: RFC 3986.
#include <cctype>
#include <filesystem>
#include <fmt/format.h>
#include <vector>

#include "katoptra/formats/http.hpp"

#include "base/text.hpp"

namespace katoptra {
namespace {

// scheme "://" authority path
struct Parts {
  std::string_view scheme, authority, path, query;
};
Parts parts_of(std::string_view url) {
  Parts p;
  if (const auto hash = url.find('#'); hash != url.npos) url = url.substr(0, hash);
  if (const auto mark = url.find('?'); mark != url.npos) {
    p.query = url.substr(mark);
    url = url.substr(0, mark);
  }
  const auto colon = url.find("://");
  if (colon == url.npos) {
    p.path = url;
    return p;
  }
  p.scheme = url.substr(0, colon);
  url.remove_prefix(colon + 3);
  const auto slash = url.find('/');
  p.authority = url.substr(0, slash);
  p.path = slash == url.npos ? std::string_view() : url.substr(slash);
  return p;
}

std::string without_dots(std::string_view path) {
  std::vector<std::string_view> out;
  const bool rooted = path.starts_with('/');
  bool folder = false;
  while (!path.empty()) {
    const auto slash = path.find('/');
    const std::string_view part = path.substr(0, slash);
    path = slash == path.npos ? std::string_view() : path.substr(slash + 1);
    folder = slash != std::string_view::npos && path.empty();
    if (part == ".." && (rooted || (!out.empty() && out.back() != ".."))) {
      if (!out.empty()) out.pop_back();
      folder = folder || path.empty();
    } else if (part == ".") {
      folder = folder || path.empty();
    } else if (!part.empty()) {
      out.push_back(part);
      continue;
    }
  }
  std::string joined = rooted ? "/" : "";
  for (std::size_t i = 0; i < out.size(); ++i) joined += (i ? "/" : "") + std::string(out[i]);
  if (folder && !joined.ends_with('/')) joined += '/';
  return joined;
}

}  // namespace

bool is_url(std::string_view text) {
  const std::string head = lower_case(std::string(text.substr(0, 8)));
  return head.starts_with("http://") || head.starts_with("https://");
}

std::string host_of(std::string_view url) {
  const Parts p = parts_of(url);
  std::string_view host = p.authority;
  if (const auto at = host.rfind('@'); at != host.npos) host.remove_prefix(at + 1);
  std::string out = lower_case(std::string(host));
  const std::string own = lower_case(std::string(p.scheme)) == "https" ? ":443" : ":80";
  if (out.ends_with(own)) out.resize(out.size() - own.size());
  return out;
}

bool key_may_follow(std::string_view from, std::string_view to) {
  const auto secret = [](std::string_view url) { return lower_case(std::string(parts_of(url).scheme)) == "https"; };
  return !secret(from) || secret(to);
}

std::string url_file_name(std::string_view url) {
  std::string_view path = parts_of(url).path;
  while (path.ends_with('/')) path.remove_suffix(1);
  const auto slash = path.rfind('/');
  return percent_decoded(slash == path.npos ? path : path.substr(slash + 1));
}

std::string resolve_url(std::string_view base, std::string_view reference) {
  const auto colon = reference.find(':');
  const auto slash = reference.find_first_of("/?#");
  if (!is_url(base)) {
    // A colon may stand in the name of a file.
    if (reference.find("://") != reference.npos) return std::string(reference);
    const std::filesystem::path folder = std::filesystem::path(base).parent_path();
    return (folder / std::filesystem::path(reference)).lexically_normal().string();
  }
  if (colon != reference.npos && (slash == reference.npos || colon < slash)) return std::string(reference);
  const Parts b = parts_of(base);
  if (reference.starts_with("//")) return fmt::format("{}:{}", b.scheme, reference);
  const std::string root = fmt::format("{}://{}", b.scheme, b.authority);
  if (reference.empty()) return root + std::string(b.path) + std::string(b.query);
  if (reference.front() == '?') return root + std::string(b.path) + std::string(reference);
  if (reference.front() == '#') return std::string(base);
  const auto mark = reference.find_first_of("?#");
  const std::string_view path = reference.substr(0, mark),
                         rest = mark == reference.npos ? std::string_view() : reference.substr(mark);
  if (path.starts_with('/')) return root + without_dots(path) + std::string(rest);
  const auto last = b.path.rfind('/');
  const std::string folder = last == b.path.npos ? "/" : std::string(b.path.substr(0, last + 1));
  return root + without_dots(folder + std::string(path)) + std::string(rest);
}

std::string percent_encoded(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (std::isalnum(static_cast<unsigned char>(c)) || std::string_view("-_.~/").find(c) != std::string_view::npos)
      out += c;
    else
      out += fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

std::string percent_decoded(std::string_view text) {
  std::string out;
  auto digit = [](char c) {
    if (c >= '0' && c <= '9') return c - '0';
    const char l = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return l >= 'a' && l <= 'f' ? l - 'a' + 10 : -1;
  };
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '%' && i + 2 < text.size() && digit(text[i + 1]) >= 0 && digit(text[i + 2]) >= 0) {
      out += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
      i += 2;
    } else {
      out += text[i];
    }
  }
  return out;
}

std::string shown_url(std::string_view url) {
  if (!is_url(url)) return std::string(url);
  const Parts p = parts_of(url);
  std::string_view host = p.authority;
  if (const auto at = host.rfind('@'); at != host.npos) host.remove_prefix(at + 1);
  return fmt::format("{}://{}{}{}", p.scheme, host, p.path, p.query.empty() ? "" : "?...");
}

}  // namespace katoptra
