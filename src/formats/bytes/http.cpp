#include "katoptra/formats/http.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <curl/curl.h>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <random>
#include <thread>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/version.hpp"

#include "base/pool.hpp"
#include "base/text.hpp"
#include "traffic.hpp"

namespace katoptra {
namespace {

constexpr int kMostRedirects = 5, kMostInterim = 20;
constexpr std::size_t kMostHeaderBytes = 1 << 20;

struct Cleanup {
  void operator()(CURL* c) const { curl_easy_cleanup(c); }
  void operator()(curl_slist* l) const { curl_slist_free_all(l); }
};
using Handle = std::unique_ptr<CURL, Cleanup>;
using List = std::unique_ptr<curl_slist, Cleanup>;

std::string_view trimmed(std::string_view s) {
  while (!s.empty() && std::isspace(static_cast<unsigned char>(s.front()))) s.remove_prefix(1);
  while (!s.empty() && std::isspace(static_cast<unsigned char>(s.back()))) s.remove_suffix(1);
  return s;
}

// One transfer: what the library calls back with.
struct Transfer {
  const HttpRequest& request;
  HttpResponse response;
  bool begun = false, taken = false;
  std::exception_ptr error;
  std::size_t header_bytes = 0;
  int interim = 0;

  void begin() {
    if (std::exchange(begun, true)) return;
    taken = request.take && (!request.begin || request.begin(response));
  }
  static std::size_t on_header(char* data, std::size_t size, std::size_t n, void* self) {
    auto& t = *static_cast<Transfer*>(self);
    const std::string_view line = trimmed({data, size * n});
    t.header_bytes += size * n;
    if (line.starts_with("HTTP/")) {
      t.response.headers.clear();
      t.response.status = 0;
      if (const auto space = line.find(' '); space != line.npos)
        t.response.status = std::atoi(std::string(line.substr(space + 1, 3)).c_str());
      // "100 Continue" for ever is no answer.
      if (t.response.status < 200 && ++t.interim > kMostInterim) return 0;
    } else if (const auto colon = line.find(':'); colon != line.npos) {
      t.response.headers[lower_case(std::string(line.substr(0, colon)))] = trimmed(line.substr(colon + 1));
    }
    return t.header_bytes > kMostHeaderBytes ? 0 : size * n;
  }
  static std::size_t on_body(char* data, std::size_t size, std::size_t n, void* self) {
    auto& t = *static_cast<Transfer*>(self);
    try {
      t.begin();
      count_bytes(size * n);
      if (t.taken) {
        t.request.take({reinterpret_cast<const std::uint8_t*>(data), size * n});
      } else {
        if (t.response.body.size() + size * n > t.request.limit)
          throw Error(
              ErrorCode::TooLarge,
              fmt::format("sends more than the {} allowed here", format_bytes(static_cast<double>(t.request.limit))),
              shown_url(t.request.url));
        t.response.body.append(data, size * n);
      }
    } catch (...) {
      t.error = std::current_exception();
      return 0;
    }
    return size * n;
  }
  static int on_progress(void* self, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
    const auto& t = *static_cast<Transfer*>(self);
    return t.request.progress && t.request.progress->cancelled() ? 1 : 0;
  }
};

class CurlClient final : public HttpClient {
 public:
  explicit CurlClient(HttpAccess access) : access_(std::move(access)) {
    static const CURLcode ready = curl_global_init(CURL_GLOBAL_DEFAULT);
    if (ready != CURLE_OK) throw Error(ErrorCode::Network, "the network library cannot be started", "libcurl");
  }

  HttpResponse send(const HttpRequest& request) override {
    HttpRequest now = request;
    for (int hop = 0;; ++hop) {
      HttpResponse r = once(now, key_may_follow(request.url, now.url));
      if (r.status < 300 || r.status > 399 || r.status == 304 || r.header("location").empty()) return r;
      const std::string next = resolve_url(now.url, r.header("location"));
      const std::string advice =
          fmt::format("name {} with --host if you trust it", is_url(next) ? host_of(next) : "the other address");
      if (!is_url(next) || (host_of(next) != host_of(now.url) && !access_.hosts.count(host_of(next))))
        throw Error(ErrorCode::Refused,
                    fmt::format("leads on to {}, which was not named", is_url(next) ? host_of(next) : "no web address"),
                    shown_url(now.url), advice);
      if (hop == kMostRedirects)
        throw Error(ErrorCode::Refused, "leads from one address to the next without an end", shown_url(request.url));
      now.url = next;
      if (r.status == 303) {
        now.method = "GET";
        now.body.clear();
      }
    }
  }

 private:
  HttpResponse once(const HttpRequest& request, bool with_key) {
    if (!is_url(request.url))
      throw Error(ErrorCode::BadArgument, "is no web address", request.url, "it should begin with http:// or https://");
    if (request.progress) request.progress->check();
    const std::string host = host_of(request.url);
    Handle handle = handles_.take([] { return Handle(curl_easy_init()); });
    CURL* c = handle.get();
    curl_easy_reset(c);  // keeps the connection
    Transfer t{request, {}, false, false, {}};
    t.response.url = request.url;
    curl_easy_setopt(c, CURLOPT_URL, request.url.c_str());
    curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR, "http,https");
    curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L);
    curl_easy_setopt(c, CURLOPT_USERAGENT, "katoptra/" KATOPTRA_VERSION);
    curl_easy_setopt(c, CURLOPT_CONNECTTIMEOUT, 15L);
    curl_easy_setopt(c, CURLOPT_LOW_SPEED_LIMIT, 1L);
    curl_easy_setopt(c, CURLOPT_LOW_SPEED_TIME, 30L);
    curl_easy_setopt(c, CURLOPT_HEADERFUNCTION, &Transfer::on_header);
    curl_easy_setopt(c, CURLOPT_HEADERDATA, &t);
    curl_easy_setopt(c, CURLOPT_WRITEFUNCTION, &Transfer::on_body);
    curl_easy_setopt(c, CURLOPT_WRITEDATA, &t);
    curl_easy_setopt(c, CURLOPT_XFERINFOFUNCTION, &Transfer::on_progress);
    curl_easy_setopt(c, CURLOPT_XFERINFODATA, &t);
    curl_easy_setopt(c, CURLOPT_NOPROGRESS, 0L);
    if (host.starts_with("127.") || host.starts_with("localhost") || host.starts_with("[::1]"))
      curl_easy_setopt(c, CURLOPT_NOPROXY, "*");
    if (request.method == "HEAD") {
      curl_easy_setopt(c, CURLOPT_NOBODY, 1L);
    } else if (request.method != "GET") {
      curl_easy_setopt(c, CURLOPT_CUSTOMREQUEST, request.method.c_str());
      if (request.method == "POST" || !request.body.empty()) {
        curl_easy_setopt(c, CURLOPT_POSTFIELDSIZE_LARGE, static_cast<curl_off_t>(request.body.size()));
        curl_easy_setopt(c, CURLOPT_POSTFIELDS, request.body.c_str());
      }
    }
    List list;
    auto add = [&](const std::string& line) { list.reset(curl_slist_append(list.release(), line.c_str())); };
    add("Expect:");
    for (const auto& [name, value] : request.headers) add(name + ": " + value);
    if (const std::string key = access_.key_for(host); with_key && !key.empty()) add("Authorization: Bearer " + key);
    curl_easy_setopt(c, CURLOPT_HTTPHEADER, list.get());
    count_request();
    const CURLcode code = curl_easy_perform(c);
    if (t.error) std::rethrow_exception(t.error);
    if (code == CURLE_ABORTED_BY_CALLBACK) throw Error(ErrorCode::Cancelled, "stopped", shown_url(request.url));
    if (code != CURLE_OK) fail(code, request);
    if (request.take) t.begin();  // an empty body
    handles_.give(std::move(handle));
    return std::move(t.response);
  }

  [[noreturn]] static void fail(CURLcode code, const HttpRequest& request) {
    const std::string what = code == CURLE_PARTIAL_FILE || code == CURLE_GOT_NOTHING || code == CURLE_RECV_ERROR
                                 ? "the connection ended early"
                             : code == CURLE_COULDNT_CONNECT      ? "does not answer"
                             : code == CURLE_COULDNT_RESOLVE_HOST ? "its name is not known"
                             : code == CURLE_OPERATION_TIMEDOUT   ? "has gone silent"
                             : code == CURLE_WRITE_ERROR          ? "sends headers without an end"
                                                                  : curl_easy_strerror(code);
    const std::string where = shown_url(request.url);
    if (code == CURLE_COULDNT_RESOLVE_HOST || code == CURLE_COULDNT_CONNECT)
      throw NoAnswer(ErrorCode::Network, what, where, "check the address and your connection");
    if (code == CURLE_WRITE_ERROR) throw NoAnswer(ErrorCode::Network, what, where, "check the address");
    throw Error(ErrorCode::Network, what, where, "try again later");
  }

  HttpAccess access_;
  Pool<Handle> handles_;
};

std::mutex g_mutex;
std::shared_ptr<HttpClient> g_client;

constexpr int kTriesOfAStranger = 3;

// Which hosts ever answered, and how often the others were asked in vain.
class Hosts {
 public:
  void answered(const std::string& host) {
    std::lock_guard lock(mutex_);
    silences_[host] = kAnswered;
  }
  bool worth_asking_again(const std::string& host) {
    std::lock_guard lock(mutex_);
    int& silences = silences_[host];
    return silences == kAnswered || ++silences < kTriesOfAStranger;
  }
  void forget() {
    std::lock_guard lock(mutex_);
    silences_.clear();
  }

 private:
  static constexpr int kAnswered = -1;
  std::mutex mutex_;
  std::map<std::string, int> silences_;
};
Hosts g_hosts;

bool worth_another_try(int status) { return status == 408 || status == 425 || status == 429 || status >= 500; }

// Sleeps in short steps, so that a cancelled run ends at once.
void wait(std::chrono::milliseconds time, const Progress* progress) {
  const auto until = std::chrono::steady_clock::now() + time;
  while (std::chrono::steady_clock::now() < until) {
    if (progress) progress->check();
    std::this_thread::sleep_for(
        std::min<std::chrono::nanoseconds>(std::chrono::milliseconds(50), until - std::chrono::steady_clock::now()));
  }
}

// Seconds, or a date.
std::chrono::milliseconds retry_after(const HttpResponse& r) {
  const std::string text = r.header("retry-after");
  if (text.empty()) return std::chrono::milliseconds(0);
  if (const auto seconds = parse_number(text); seconds && *seconds >= 0)
    return std::chrono::milliseconds(std::llround(std::min(*seconds, 3600.0) * 1000));
  const std::time_t at = curl_getdate(text.c_str(), nullptr);
  const double ahead = at > 0 ? std::difftime(at, std::time(nullptr)) : 0;
  return std::chrono::milliseconds(std::llround(std::clamp(ahead, 0.0, 3600.0) * 1000));
}

}  // namespace

std::string HttpAccess::key_for(const std::string& host) const {
  if (const auto own = keys.find(host); own != keys.end()) return own->second;
  const auto any = keys.find("");
  return any != keys.end() && hosts.count(host) ? any->second : std::string();
}

std::string HttpResponse::header(const std::string& name) const {
  const auto found = headers.find(name);
  return found == headers.end() ? std::string() : found->second;
}

std::shared_ptr<HttpClient> make_http_client(HttpAccess access) {
  return std::make_shared<CurlClient>(std::move(access));
}

HttpClient& http() {
  std::lock_guard lock(g_mutex);
  if (!g_client) g_client = make_http_client();
  return *g_client;
}

void set_http_client(std::shared_ptr<HttpClient> client) {
  std::lock_guard lock(g_mutex);
  g_client = std::move(client);
  g_hosts.forget();
}

HttpResponse send_patiently(const HttpRequest& request, const Patience& patience) {
  // The jitter keeps many callers from coming back in step; nothing that is computed depends on it.
  thread_local std::minstd_rand random(std::random_device{}());
  const std::string host = host_of(request.url);
  auto pause = patience.first;
  for (int left = patience.tries;; --left) {
    auto time = pause;
    try {
      HttpResponse r = http().send(request);
      g_hosts.answered(host);
      if (!worth_another_try(r.status) || left <= 1) return r;
      const auto asked = retry_after(r);
      if (asked > patience.longest * 3) return r;  // nobody waits that long; the answer says when to come back
      time = std::max(time, asked);
    } catch (const NoAnswer&) {
      if (!g_hosts.worth_asking_again(host) || left <= 1 || !patience.reconnect) throw;
    } catch (const Error& e) {
      if (e.code() != ErrorCode::Network || left <= 1 || !patience.reconnect) throw;
    }
    wait(time + std::chrono::milliseconds(random() % static_cast<unsigned>(pause.count() / 4 + 1)), request.progress);
    pause = std::min(pause * 2, patience.longest);
  }
}

void refuse_answer(const HttpResponse& r) {
  const std::string where = shown_url(r.url);
  switch (r.status) {
    case 401:
    case 403:
      throw Error(ErrorCode::Network,
                  fmt::format("answers that a key is needed or is not the right one ({})", r.status), where,
                  "put the key into KATOPTRA_KEY or a file named with --key-file");
    case 404:
    case 410:
      throw Error(ErrorCode::Io, fmt::format("is not there ({})", r.status), where, "check the address");
    case 429: {
      const std::string after = r.header("retry-after");
      throw Error(ErrorCode::Network, "answers that it was asked too often (429)", where,
                  after.empty() ? "try again later" : fmt::format("try again in {} s", after));
    }
    default:
      throw Error(ErrorCode::Network, fmt::format("answers with status {}", r.status), where,
                  r.status >= 500 ? "try again later" : "check the address");
  }
}

std::string get_text(const std::string& url, std::size_t limit) {
  HttpResponse r = send_patiently({.url = url, .limit = limit});
  if (!r.ok()) refuse_answer(r);
  return std::move(r.body);
}

}  // namespace katoptra
