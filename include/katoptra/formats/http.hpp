// HTTP behind one small interface, with versions for tests; and files read in place over HTTP ranges.
//
//   auto tile = open_url("http://127.0.0.1:8080/files/b2.tif");    // a ByteSource: only what is asked for is moved
//   HttpResponse r = http().send({.url = "http://127.0.0.1:8080/"});
//   traffic().bytes;                                                // what came over the network so far
//
// A request goes to the host in its URL and follows redirects only to hosts the user named (HttpAccess); the key goes
// to those hosts and no others, and never into a message. Schemes other than http and https are refused, so nothing
// that a server says leads to a local file. Thread-safe. Network when the other side or the way to it fails.
#pragma once
#include <chrono>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/base/run_options.hpp"
#include "katoptra/formats/bytes.hpp"

namespace katoptra {

// ---- addresses

bool is_url(std::string_view text);  // http:// or https://
// "127.0.0.1:8080" of "http://127.0.0.1:8080/a/b"; the port is left out where it is the scheme's own.
std::string host_of(std::string_view url);
// "tile one.tif" of "http://host/a/tile%20one.tif?key=1"
std::string url_file_name(std::string_view url);
// What `reference` means in a document at `base` (RFC 3986, section 5.2); base may be a path on the disk, too.
std::string resolve_url(std::string_view base, std::string_view reference);
// True unless the way from one to the other leads out of https: a key is not said on a line that anyone can hear.
bool key_may_follow(std::string_view from, std::string_view to);
std::string percent_encoded(std::string_view text);
std::string percent_decoded(std::string_view text);
// For messages and records: without user name, password and query.
std::string shown_url(std::string_view url);

// ---- requests

struct HttpResponse {
  int status = 0;
  std::map<std::string, std::string> headers;  // names in lower case
  std::string body;
  std::string url;  // where it came from in the end

  std::string header(const std::string& name) const;
  bool ok() const { return status >= 200 && status < 300; }
};

struct HttpRequest {
  std::string url;
  std::string method = "GET";
  std::vector<std::pair<std::string, std::string>> headers;
  std::string body;
  // The body is collected up to this size (TooLarge beyond it) ...
  std::size_t limit = std::size_t{64} << 20;
  // ... or, when there is a `take`, handed over as it comes, after `begin` saw status and headers and said yes.
  std::function<bool(const HttpResponse& head)> begin;
  std::function<void(std::span<const std::uint8_t>)> take;
  const Progress* progress = nullptr;  // cancels
};

class HttpClient {
 public:
  virtual ~HttpClient() = default;
  // Any status is an answer; Network when there was none, or it ended early.
  virtual HttpResponse send(const HttpRequest& request) = 0;
};

// What the user named: other hosts are neither asked nor trusted.
struct HttpAccess {
  std::set<std::string> hosts;              // as host_of writes them
  std::map<std::string, std::string> keys;  // bearer tokens by host; the one under "" goes to all `hosts`

  // The key for a host; empty when there is none.
  std::string key_for(const std::string& host) const;
};
std::shared_ptr<HttpClient> make_http_client(HttpAccess access = {});
// The one that this process uses for files; tests and the tool put in their own.
HttpClient& http();
void set_http_client(std::shared_ptr<HttpClient> client);

struct Patience {
  int tries = 6;
  std::chrono::milliseconds first{400}, longest{20'000};  // waits double in between; Retry-After is kept to
  bool reconnect = true;  // false: a cut connection is the caller's to deal with; answers are still waited for
};
// What HttpClient throws when a host cannot be reached or speaks something else than HTTP.
class NoAnswer : public Error {
 public:
  using Error::Error;
};
// Sends again after cut connections and the answers 408, 425, 429 and 5xx; the last answer or error is what comes back.
// A host that never answered so far is asked three times at most, and once from then on: it is a wrong address more
// often than a service that is coming back.
HttpResponse send_patiently(const HttpRequest& request, const Patience& patience = {});
// The body of a 2xx answer; Network or Io (with advice) for any other.
std::string get_text(const std::string& url, std::size_t limit = std::size_t{64} << 20);
// The Error that an answer other than 2xx stands for.
[[noreturn]] void refuse_answer(const HttpResponse& response);

// ---- files in place

// Blocks of kRemoteBlock bytes are fetched when they are read and kept (up to kRemoteKept); neighbours that are missing
// come in one request. A server that knows no ranges sends the whole file once. BadFile when the file changes
// meanwhile.
inline constexpr std::uint64_t kRemoteBlock = 64 << 10, kRemoteKept = std::uint64_t{64} << 20;
std::shared_ptr<ByteSource> open_url(const std::string& url);

struct Traffic {
  std::uint64_t requests = 0, bytes = 0;    // of bodies, since the process began
  std::uint64_t files = 0, file_bytes = 0;  // opened in place, and how large they are
};
Traffic traffic();

}  // namespace katoptra
