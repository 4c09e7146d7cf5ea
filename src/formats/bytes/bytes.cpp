#include "katoptra/formats/bytes.hpp"

#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <mutex>
#include <optional>
#include <random>
#include <set>
#include <string_view>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

#include "base/ranks.hpp"
#include "descriptor.hpp"
#include "disk.hpp"
#include "disk_file.hpp"

namespace katoptra {
namespace fs = std::filesystem;

void ByteSource::read_exactly(std::uint64_t offset, std::span<std::uint8_t> out) const {
  if (read_at(offset, out) != out.size())
    throw Error(ErrorCode::BadFile,
                fmt::format("ends early: {} bytes wanted at {}, the file has {}", out.size(), offset, size()), name(),
                "it is truncated; fetch it again");
}

std::vector<std::uint8_t> ByteSource::head(std::size_t n) const {
  std::vector<std::uint8_t> out(n);
  out.resize(read_at(0, out));
  return out;
}

void ByteSource::will_need(std::uint64_t, std::uint64_t) const {}
void ByteSource::expect(std::uint64_t, std::uint64_t) const {}

namespace {

std::string reason() { return std::strerror(errno); }

class MemorySource final : public ByteSource {
 public:
  MemorySource(std::string name, std::vector<std::uint8_t> bytes) : name_(std::move(name)), bytes_(std::move(bytes)) {}
  std::uint64_t size() const override { return bytes_.size(); }
  const std::string& name() const override { return name_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset >= bytes_.size() || out.empty()) return 0;
    const std::size_t n = std::min<std::size_t>(out.size(), bytes_.size() - offset);
    std::memcpy(out.data(), bytes_.data() + offset, n);
    return n;
  }

 private:
  std::string name_;
  std::vector<std::uint8_t> bytes_;
};

class PartSource final : public ByteSource {
 public:
  PartSource(std::shared_ptr<ByteSource> whole, std::uint64_t offset, std::uint64_t size, std::string name)
      : whole_(std::move(whole)), offset_(offset), size_(size), name_(std::move(name)) {}
  std::uint64_t size() const override { return size_; }
  const std::string& name() const override { return name_; }
  void will_need(std::uint64_t offset, std::uint64_t bytes) const override {
    if (offset < size_) whole_->will_need(offset_ + offset, std::min(bytes, size_ - offset));
  }
  void expect(std::uint64_t offset, std::uint64_t bytes) const override {
    if (offset < size_) whole_->expect(offset_ + offset, std::min(bytes, size_ - offset));
  }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset >= size_) return 0;
    return whole_->read_at(offset_ + offset, out.first(std::min<std::uint64_t>(out.size(), size_ - offset)));
  }

 private:
  std::shared_ptr<ByteSource> whole_;
  std::uint64_t offset_, size_;
  std::string name_;
};

// Files of the disk that are open for reading, by device and number, and how often.
class OpenFiles {
 public:
  using Key = std::pair<dev_t, ino_t>;
  void add(const Key& k) {
    std::lock_guard lock(mutex_);
    ++count_[k];
  }
  void remove(const Key& k) {
    std::lock_guard lock(mutex_);
    if (--count_[k] == 0) count_.erase(k);
  }
  bool has(const Key& k) const {
    std::lock_guard lock(mutex_);
    return count_.count(k) > 0;
  }
  static OpenFiles& all() {
    static OpenFiles files;
    return files;
  }

 private:
  mutable std::mutex mutex_;
  std::map<Key, int> count_;
};

}  // namespace

FileToRead::FileToRead(const fs::path& path) {
  struct stat st {};
  if (::stat(path.c_str(), &st) != 0) return;
  device_ = st.st_dev;
  number_ = st.st_ino;
  known_ = true;
  OpenFiles::all().add({st.st_dev, st.st_ino});
}

FileToRead::FileToRead(FileToRead&& other) noexcept
    : device_(other.device_), number_(other.number_), known_(std::exchange(other.known_, false)) {}

FileToRead::~FileToRead() {
  if (known_) OpenFiles::all().remove({static_cast<dev_t>(device_), static_cast<ino_t>(number_)});
}

namespace {

// A file that somebody rewrites while it is read would give a bit of both: it is refused from then on.
class FileSource final : public ByteSource {
 public:
  explicit FileSource(const fs::path& path) : file_(path) { OpenFiles::all().add(key()); }
  ~FileSource() override { OpenFiles::all().remove(key()); }
  std::uint64_t size() const override { return file_.state().size; }
  const std::string& name() const override { return file_.name(); }
  void will_need(std::uint64_t offset, std::uint64_t bytes) const override {
    const DiskFile::Descriptor fd(file_);
    ::posix_fadvise(fd, static_cast<off_t>(offset), static_cast<off_t>(bytes), POSIX_FADV_WILLNEED);
  }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    const DiskFile::Descriptor fd(file_);
    const std::size_t n = read_descriptor(fd, offset, out, name());
    file_.state().expect_in(fd, name());
    return n;
  }

 private:
  OpenFiles::Key key() const { return {file_.state().device, file_.state().number}; }
  DiskFile file_;
};

// The process of a name like ".dem.tif.part-1234-0" (a file) or ".county.part-1234" (a folder that is unpacked into).
std::optional<pid_t> writer_of(const std::string& name) {
  const auto at = name.rfind(".part-");
  if (!name.starts_with('.') || at == name.npos) return std::nullopt;
  const std::string_view rest = std::string_view(name).substr(at + 6);
  const auto digits = std::min(rest.find_first_not_of("0123456789"), rest.size());
  const bool counted = digits < rest.size() && rest[digits] == '-' &&
                       rest.find_first_not_of("0123456789", digits + 1) == rest.npos && digits + 1 < rest.size();
  if (digits == 0 || digits > 9 || (digits < rest.size() && !counted)) return std::nullopt;
  return static_cast<pid_t>(std::stol(std::string(rest.substr(0, digits))));
}

// Removes what runs left in a folder that ended without a chance to: their process is gone, and nobody holds a lock.
// Once a folder and process.
void sweep(const fs::path& folder) {
  static std::mutex mutex;
  static std::set<fs::path> swept;
  std::error_code ec;
  const fs::path place = folder.empty() ? fs::path(".") : folder;
  {
    std::lock_guard lock(mutex);
    if (!swept.insert(fs::absolute(place, ec)).second) return;
  }
  std::vector<fs::path> stale;
  for (auto it = fs::directory_iterator(place, ec); !ec && it != fs::directory_iterator(); it.increment(ec)) {
    const auto pid = writer_of(it->path().filename().string());
    if (pid && *pid > 0 && *pid != ::getpid() && ::kill(*pid, 0) != 0 && errno == ESRCH) stale.push_back(it->path());
  }
  for (const fs::path& p : stale) {
    if (fs::is_directory(fs::symlink_status(p, ec))) {
      fs::remove_all(p, ec);
      continue;
    }
    // On a disk that several machines share the process may live elsewhere: then it holds its lock.
    const int fd = ::open(p.c_str(), O_WRONLY | O_CLOEXEC | O_NOFOLLOW);
    if (fd < 0) continue;
    if (::flock(fd, LOCK_EX | LOCK_NB) == 0) ::unlink(p.c_str());
    ::close(fd);
  }
}

std::uint64_t host_number() {
  char name[256] = {};
  ::gethostname(name, sizeof name - 1);
  return std::hash<std::string_view>()(name) % 1'000'000;
}

class FileSink final : public ByteSink {
 public:
  FileSink(fs::path path, bool overwrite) : path_(std::move(path)), overwrite_(overwrite) {
    // Processes of several machines may have the same number, and make the same file.
    static std::atomic<std::uint64_t> counter{host_number() * 1000};
    refuse_existing();
    sweep(path_.parent_path());
    part_ = path_.parent_path() / fmt::format(".{}.part-{}-{}", path_.filename().string(), ::getpid(), counter++);
    fd_ = ::open(part_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (fd_ < 0)
      throw Error(ErrorCode::Io, "cannot be written: " + reason(), path_.string(),
                  "check that the folder exists and may be written");
    ::flock(fd_, LOCK_EX | LOCK_NB);  // for sweep
  }
  ~FileSink() override {
    if (fd_ >= 0) ::close(fd_);
    if (!committed_) ::unlink(part_.c_str());
  }
  void write_at(std::uint64_t offset, std::span<const std::uint8_t> bytes) override {
    write_descriptor(fd_, offset, bytes, path_.string());
  }
  std::optional<Meeting> meet() override {
    std::random_device random;
    std::vector<std::uint8_t> mark(16);
    for (std::uint8_t& b : mark) b = static_cast<std::uint8_t>(random());
    write_at(0, mark);
    std::error_code ec;
    const fs::path place = fs::absolute(part_, ec);
    // On a disk of a network others see only what was sent there.
    if (ec || ::fsync(fd_) != 0) return std::nullopt;
    return Meeting{place, mark};
  }
  void commit() override {
    const int closed = ::close(std::exchange(fd_, -1));
    if (closed != 0) throw Error(ErrorCode::Io, "cannot be written: " + reason(), path_.string(), "check the disk");
    refuse_existing();
    if (::rename(part_.c_str(), path_.c_str()) != 0)
      throw Error(ErrorCode::Io, "cannot be given its name: " + reason(), path_.string());
    committed_ = true;
  }

 private:
  void refuse_existing() const {
    std::error_code ignored;
    if (fs::is_directory(path_, ignored)) throw Error(ErrorCode::Io, "is a folder", path_.string(), "name a file");
    if (!overwrite_ && fs::exists(path_, ignored))
      throw Error(ErrorCode::Io, "exists already", path_.string(), "choose another name or say --overwrite");
    // What is read for the result must not be lost to it, even when it may be overwritten.
    if (struct stat st{}; ::stat(path_.c_str(), &st) == 0 && OpenFiles::all().has({st.st_dev, st.st_ino}))
      throw Error(ErrorCode::BadArgument, "is read for what would take its place", path_.string(),
                  "choose another name");
  }

  fs::path path_, part_;
  bool overwrite_;
  int fd_ = -1;
  bool committed_ = false;
};

// Files that another process writes, by their names: here they cannot be read.
class FilesElsewhere {
 public:
  static FilesElsewhere& all() {
    static FilesElsewhere files;
    return files;
  }
  void add(const fs::path& path) {
    std::lock_guard lock(mutex_);
    names_.insert(fs::absolute(path).lexically_normal());
  }
  bool has(const fs::path& path) {
    std::lock_guard lock(mutex_);
    return !names_.empty() && names_.contains(fs::absolute(path).lexically_normal());
  }

 private:
  std::mutex mutex_;
  std::set<fs::path> names_;
};

class NoSink final : public ByteSink {
 public:
  void write_at(std::uint64_t, std::span<const std::uint8_t>) override {}
  void commit() override {}
};

std::function<std::unique_ptr<ByteSink>(std::unique_ptr<ByteSink>)>& wrapper() {
  static std::function<std::unique_ptr<ByteSink>(std::unique_ptr<ByteSink>)> w;
  return w;
}

}  // namespace

std::shared_ptr<ByteSource> open_on_disk(const fs::path& path) {
  if (FilesElsewhere::all().has(path)) refuse_to_help(path.string());
  auto source = std::make_shared<FileSource>(path);
  if (source->size() == 0) throw Error(ErrorCode::BadFile, "is empty", path.string(), "fetch it again");
  return source;
}

std::shared_ptr<ByteSource> bytes_in_memory(std::string name, std::vector<std::uint8_t> bytes) {
  return std::make_shared<MemorySource>(std::move(name), std::move(bytes));
}

std::shared_ptr<ByteSource> part_of(std::shared_ptr<ByteSource> whole, std::uint64_t offset, std::uint64_t size,
                                    std::string name) {
  if (offset > whole->size() || size > whole->size() - offset)
    throw Error(ErrorCode::BadFile, "a part lies beyond the end", whole->name(), "it is damaged; fetch it again");
  return std::make_shared<PartSource>(std::move(whole), offset, size, std::move(name));
}

std::string read_text(const ByteSource& source, std::size_t limit) {
  if (source.size() > limit)
    throw Error(ErrorCode::TooLarge,
                fmt::format("is {} long, more than the {} allowed here",
                            format_bytes(static_cast<double>(source.size())), format_bytes(static_cast<double>(limit))),
                source.name());
  std::string text(source.size(), '\0');
  source.read_exactly(0, std::span(reinterpret_cast<std::uint8_t*>(text.data()), text.size()));
  return text;
}

std::string read_text_file(const fs::path& path, std::size_t limit) { return read_text(*open_file(path), limit); }

std::unique_ptr<ByteSink> create_file(const fs::path& path, const CreateOptions& options) {
  if (only_helps()) {
    FilesElsewhere::all().add(path);
    return std::make_unique<NoSink>();
  }
  auto sink = std::make_unique<FileSink>(path, options.overwrite);
  if (wrapper()) return wrapper()(std::move(sink));
  return sink;
}

void set_sink_wrapper(std::function<std::unique_ptr<ByteSink>(std::unique_ptr<ByteSink>)> wrap) {
  wrapper() = std::move(wrap);
}

void write_file(const fs::path& path, std::span<const std::uint8_t> bytes, const CreateOptions& options) {
  auto sink = create_file(path, options);
  sink->write_at(0, bytes);
  sink->commit();
}

void write_text_file(const fs::path& path, std::string_view text, const CreateOptions& options) {
  write_file(path, std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()), options);
}

}  // namespace katoptra
