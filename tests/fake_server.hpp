// A web server in memory, put in the place of the network. It can be told to go wrong in exact places.
#pragma once
#include <atomic>
#include <deque>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>

#include "katoptra/base/error.hpp"
#include "katoptra/base/progress.hpp"
#include "katoptra/formats/http.hpp"

namespace katoptra::testing {

class FakeServer {
 public:
  FakeServer() : client_(std::make_shared<Client>(*this)) { set_http_client(client_); }
  ~FakeServer() { set_http_client(nullptr); }

  void put(const std::string& url, const std::string& content) {
    files_[url] = content;
    tags_[url] = fmt::format("\"{}\"", ++version_);
  }

  // Answers what files do not: the body, or nothing for 404.
  std::function<std::optional<std::string>(const HttpRequest&)> handler;
  std::deque<int> answers;  // statuses to give before the right one; 0: cut, -1: no such host
  std::string retry_after;
  bool ranges = true, tags = true;
  std::size_t short_by = 0;  // parts are this much shorter than they say, `short_times` times
  int short_times = 0;
  std::optional<std::size_t> cut_after;  // the connection ends after so many bytes of a body, once ...
  bool dead_after_cut = false;           // ... and the next request gets no answer
  // A service that answers ranges wrongly: changes each answer of 206 before it is given.
  std::function<void(HttpResponse&, std::string& body)> twist;
  std::atomic<int> asked{0};
  std::atomic<std::uint64_t> sent{0};
  std::vector<std::string> requests;

 private:
  class Client final : public HttpClient {
   public:
    explicit Client(FakeServer& s) : s_(s) {}
    HttpResponse send(const HttpRequest& q) override { return s_.answer(q); }

   private:
    FakeServer& s_;
  };

  HttpResponse answer(const HttpRequest& q) {
    if (q.progress) q.progress->check();
    ++asked;
    std::unique_lock lock(mutex_);
    requests.push_back(q.method + " " + q.url);
    HttpResponse r;
    r.url = q.url;
    if (!answers.empty()) {
      r.status = answers.front();
      answers.pop_front();
      if (r.status < 0) throw NoAnswer(ErrorCode::Network, "does not answer", q.url);
      if (r.status == 0) throw Error(ErrorCode::Network, "the connection ended early", q.url);
      if (!retry_after.empty()) r.headers["retry-after"] = retry_after;
      if (q.begin) q.begin(r);
      return r;
    }
    if (handler)
      if (const auto made = handler(q)) {
        files_[q.url] = *made;
        tags_[q.url] = fmt::format("\"{}\"", ++version_);
      }
    const auto file = files_.find(q.url);
    if (file == files_.end()) {
      r.status = 404;
      if (q.begin) q.begin(r);
      return r;
    }
    std::string body = file->second;
    r.status = 200;
    if (tags) r.headers["etag"] = tags_[q.url];
    std::string range, condition;
    for (const auto& [name, value] : q.headers) {
      if (name == "Range") range = value;
      if (name == "If-Range") condition = value;
    }
    if (ranges && !range.empty() && (condition.empty() || condition == tags_[q.url])) {
      const std::size_t from = std::strtoull(range.c_str() + 6, nullptr, 10);
      const std::string end = range.substr(range.find('-') + 1);
      const std::size_t to =
          end.empty() ? body.size() : std::min<std::size_t>(body.size(), std::strtoull(end.c_str(), nullptr, 10) + 1);
      if (from >= body.size()) {
        r.status = 416;
        if (q.begin) q.begin(r);
        return r;
      }
      r.status = 206;
      r.headers["content-range"] = fmt::format("bytes {}-{}/{}", from, to - 1, body.size());
      body = body.substr(from, to - from);
      if (short_times > 0 && short_by < body.size()) {
        --short_times;
        body.resize(body.size() - short_by);
      }
      if (twist) twist(r, body);
    }
    r.headers["content-length"] = std::to_string(body.size());
    if (q.method == "HEAD") return r;
    bool cut = false;
    if (cut_after && *cut_after < body.size()) {
      body.resize(*cut_after);
      cut_after.reset();
      if (dead_after_cut) answers.push_back(0);
      cut = true;
    }
    sent += body.size();
    lock.unlock();
    if (q.take && (!q.begin || q.begin(r))) {
      // In small pieces, as a network brings them.
      for (std::size_t at = 0; at < body.size(); at += 1000)
        q.take(
            {reinterpret_cast<const std::uint8_t*>(body.data()) + at, std::min<std::size_t>(1000, body.size() - at)});
    } else {
      r.body = body;
    }
    if (cut) throw Error(ErrorCode::Network, "the connection ended early", q.url);
    return r;
  }

  std::mutex mutex_;
  std::map<std::string, std::string> files_, tags_;
  int version_ = 0;
  std::shared_ptr<Client> client_;
};

}  // namespace katoptra::testing
