// Files read in place over HTTP ranges.
#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstring>
#include <curl/curl.h>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <list>
#include <map>
#include <mutex>
#include <set>
#include <unordered_map>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"
#include "katoptra/formats/http.hpp"

#include "content_range.hpp"
#include "descriptor.hpp"
#include "disk.hpp"
#include "traffic.hpp"

namespace katoptra {
namespace {

std::atomic<std::uint64_t> g_requests, g_bytes, g_files, g_file_bytes;

// Requests are cut at this, so that a long run of missing blocks does not hold up a reader that needs the first.
constexpr std::uint64_t kMostAtOnce = std::uint64_t{8} << 20;

// Numbers in runs that do not touch.
class Runs {
 public:
  void add(std::uint64_t first, std::uint64_t end) {
    auto next = runs_.lower_bound(first);
    if (next != runs_.begin() && std::prev(next)->second >= first) --next;
    while (next != runs_.end() && next->first <= end) {
      first = std::min(first, next->first);
      end = std::max(end, next->second);
      next = runs_.erase(next);
    }
    runs_[first] = end;
  }
  bool has(std::uint64_t n) const {
    const auto next = runs_.upper_bound(n);
    return next != runs_.begin() && std::prev(next)->second > n;
  }
  void remove(std::uint64_t n) {
    const auto next = runs_.upper_bound(n);
    if (next == runs_.begin() || std::prev(next)->second <= n) return;
    const auto [first, end] = *std::prev(next);
    runs_.erase(first);
    if (first < n) runs_[first] = n;
    if (n + 1 < end) runs_[n + 1] = end;
  }

 private:
  std::map<std::uint64_t, std::uint64_t> runs_;  // [first, end)
};

std::string day_of(const std::string& http_date) {
  const std::time_t t = http_date.empty() ? -1 : curl_getdate(http_date.c_str(), nullptr);
  return t < 0 ? std::string() : fmt::format("{:%Y-%m-%d}", fmt::gmtime(t));
}

// "bytes 0-65535/345202"
std::uint64_t whole_size(const HttpResponse& r) {
  const auto size = range_total(r);
  if (!size)
    throw Error(ErrorCode::Network, "sends a part of a file without saying how large it is", shown_url(r.url),
                "fetch the whole file");
  return *size;
}

// What a server without ranges sent: all of it, in a file without a name.
class WholeSource final : public DescriptorSource {
 public:
  WholeSource(const std::string& name) : DescriptorSource(name, open_unnamed_file(name), 0) {}
  void append(std::span<const std::uint8_t> bytes) {
    write_descriptor(descriptor(), size_, bytes, name());
    size_ += bytes.size();
  }
  std::string changed() const override { return changed_; }
  std::string changed_;
};

class RangeSource final : public ByteSource {
 public:
  RangeSource(std::string url, std::uint64_t size, std::string tag, std::string changed, std::string first)
      : url_(std::move(url)), name_(shown_url(url_)), size_(size), tag_(std::move(tag)), changed_(std::move(changed)) {
    keep(0, first);
  }
  std::uint64_t size() const override { return size_; }
  const std::string& name() const override { return name_; }
  std::string changed() const override { return changed_; }

  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset >= size_ || out.empty()) return 0;
    const std::uint64_t n = std::min<std::uint64_t>(out.size(), size_ - offset);
    std::uint64_t done = 0;
    while (done < n) {
      const std::uint64_t at = offset + done, index = at / kRemoteBlock, within = at % kRemoteBlock;
      const auto block = obtain(index, (offset + n - 1) / kRemoteBlock);
      if (within >= block->size()) break;
      const std::uint64_t take = std::min<std::uint64_t>(n - done, block->size() - within);
      std::memcpy(out.data() + done, block->data() + within, take);
      done += take;
    }
    return static_cast<std::size_t>(done);
  }

  // Nothing moves before it is read, but what is read next to it comes in the same request.
  void will_need(std::uint64_t offset, std::uint64_t bytes) const override {
    if (bytes == 0 || offset >= size_) return;
    std::lock_guard lock(mutex_);
    wanted_.add(offset / kRemoteBlock, (std::min(offset + bytes, size_) - 1) / kRemoteBlock + 1);
  }
  void expect(std::uint64_t offset, std::uint64_t bytes) const override { will_need(offset, bytes); }

 private:
  using Data = std::shared_ptr<const std::string>;

  Data obtain(std::uint64_t index, std::uint64_t last_of_read) const {
    std::unique_lock lock(mutex_);
    while (true) {
      if (const auto found = blocks_.find(index); found != blocks_.end()) {
        use(found->second);
        return found->second.data;
      }
      if (!coming_.count(index)) break;
      arrived_.wait(lock);
    }
    // This block and those beside it that are asked for or wanted soon, in one request.
    std::uint64_t begin = index, end = index + 1;
    const auto more = [&](std::uint64_t b) {
      return (end - begin) * kRemoteBlock < kMostAtOnce && !blocks_.count(b) && !coming_.count(b) &&
             ((b > index && b <= last_of_read) || wanted_.has(b));
    };
    while (end * kRemoteBlock < size_ && more(end)) ++end;
    while (begin > 0 && more(begin - 1)) --begin;
    for (std::uint64_t b = begin; b < end; ++b) coming_.insert(b);
    lock.unlock();
    std::string bytes;
    std::exception_ptr error;
    try {
      bytes = load(begin * kRemoteBlock, std::min(end * kRemoteBlock, size_));
    } catch (...) {
      error = std::current_exception();
    }
    lock.lock();
    for (std::uint64_t b = begin; b < end; ++b) coming_.erase(b);
    if (!error) keep(begin, bytes);
    arrived_.notify_all();
    if (error) std::rethrow_exception(error);
    if (const auto found = blocks_.find(index); found != blocks_.end()) use(found->second);
    return std::make_shared<const std::string>(bytes.substr((index - begin) * kRemoteBlock, kRemoteBlock));
  }

  std::string load(std::uint64_t from, std::uint64_t to) const {
    HttpRequest q{.url = url_,
                  .headers = {{"Range", fmt::format("bytes={}-{}", from, to - 1)}, {"Accept-Encoding", "identity"}}};
    if (!tag_.empty()) q.headers.emplace_back("If-Range", tag_);
    q.limit = kMostAtOnce + kRemoteBlock;
    // A body that is too short is a cut connection in disguise.
    for (int left = 4;; --left) {
      const HttpResponse r = send_patiently(q);
      if (r.status == 200) throw Error(ErrorCode::BadFile, "has changed while it was read", name_, "start again");
      if (r.status != 206) refuse_answer(r);
      if (whole_size(r) != size_)
        throw Error(ErrorCode::BadFile, "has changed while it was read", name_, "start again");
      if (r.body.size() == to - from) return r.body;
      if (left <= 1)
        throw Error(ErrorCode::Network, fmt::format("sends {} bytes where {} were asked for", r.body.size(), to - from),
                    name_, "try again later");
    }
  }

  // Holds the lock, or is alone. What came along and was not read yet stays longest: else it would come twice.
  void keep(std::uint64_t index, const std::string& bytes) const {
    for (std::uint64_t at = 0; at < bytes.size(); at += kRemoteBlock, ++index) {
      fresh_.push_front(index);
      blocks_[index] = {std::make_shared<const std::string>(bytes.substr(at, kRemoteBlock)), fresh_.begin(), false};
      wanted_.remove(index);
    }
    while (blocks_.size() > kRemoteKept / kRemoteBlock) {
      std::list<std::uint64_t>& from = used_.empty() ? fresh_ : used_;
      blocks_.erase(from.back());
      from.pop_back();
    }
  }

  struct Kept {
    Data data;
    std::list<std::uint64_t>::iterator place;
    bool used = false;
  };
  void use(Kept& k) const {
    used_.splice(used_.begin(), k.used ? used_ : fresh_, k.place);
    k.used = true;
  }

  std::string url_, name_;
  std::uint64_t size_;
  std::string tag_, changed_;
  mutable std::mutex mutex_;
  mutable std::condition_variable arrived_;
  mutable std::unordered_map<std::uint64_t, Kept> blocks_;
  mutable std::list<std::uint64_t> used_, fresh_;  // most recent first; those that were read, and not yet
  mutable std::set<std::uint64_t> coming_;
  mutable Runs wanted_;
};

}  // namespace

void count_request() { ++g_requests; }
void count_bytes(std::uint64_t bytes) { g_bytes += bytes; }
void count_file(std::uint64_t bytes) {
  ++g_files;
  g_file_bytes += bytes;
}
Traffic traffic() { return {g_requests, g_bytes, g_files, g_file_bytes}; }

std::shared_ptr<ByteSource> open_url(const std::string& url) {
  std::shared_ptr<WholeSource> whole;
  HttpRequest q{.url = url,
                .headers = {{"Range", fmt::format("bytes=0-{}", kRemoteBlock - 1)}, {"Accept-Encoding", "identity"}}};
  std::string first;
  q.begin = [&](const HttpResponse& head) {
    first.clear();
    whole = head.status == 200 ? std::make_shared<WholeSource>(shown_url(url)) : nullptr;
    return head.status == 200 || head.status == 206;
  };
  q.take = [&](std::span<const std::uint8_t> bytes) {
    if (whole)
      whole->append(bytes);
    else if (first.size() + bytes.size() <= kRemoteBlock)
      first.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    else
      throw Error(ErrorCode::Network, "sends more than it was asked for", shown_url(url), "fetch the whole file");
  };
  const HttpResponse r = send_patiently(q);
  if (r.status == 416) throw Error(ErrorCode::BadFile, "is empty", shown_url(url), "tell who runs the service");
  if (r.status != 200 && r.status != 206) refuse_answer(r);
  if (whole) {
    if (whole->size() == 0) throw Error(ErrorCode::BadFile, "is empty", shown_url(url), "tell who runs the service");
    whole->changed_ = day_of(r.header("last-modified"));
    count_file(whole->size());
    return whole;
  }
  const std::uint64_t size = whole_size(r);
  if (first.size() != std::min(size, kRemoteBlock))
    throw Error(ErrorCode::Network, "sends less than it was asked for", shown_url(url), "try again later");
  count_file(size);
  // A weak tag does not vouch for bytes.
  std::string tag = r.header("etag");
  if (tag.starts_with("W/")) tag.clear();
  return std::make_shared<RangeSource>(url, size, tag, day_of(r.header("last-modified")), first);
}

std::shared_ptr<ByteSource> open_file(const std::filesystem::path& path) {
  return is_url(path.native()) ? open_url(path.native()) : open_on_disk(path);
}

}  // namespace katoptra
