#include "disk_file.hpp"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <mutex>
#include <sys/resource.h>
#include <vector>

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct OpenOnes {
  std::mutex mutex;
  std::list<const DiskFile*> idle;  // front: used last
  std::size_t open = 0, most = 0;

  OpenOnes() {
    constexpr std::size_t kFewest = 16, kMost = 4096;
    struct rlimit limit = {};
    const bool known = ::getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_cur != RLIM_INFINITY;
    most = known ? std::clamp<std::size_t>(limit.rlim_cur / 2, kFewest, kMost) : kMost;
  }
};

// Never destroyed: files may be closed while the process ends.
OpenOnes& all() {
  static OpenOnes& ones = *new OpenOnes();
  return ones;
}

void close_all(const std::vector<int>& descriptors) {
  for (int fd : descriptors) ::close(fd);
}

}  // namespace

DiskFile::DiskFile(const fs::path& path) : name_(path.string()) {
  std::error_code ec;
  absolute_ = fs::absolute(path, ec);
  if (ec) absolute_ = path;
  const int fd = opened(), error = errno;
  if (fd < 0)
    throw Error(ErrorCode::Io, std::string("cannot be opened: ") + std::strerror(error), name_,
                error == ENOENT ? "check the path" : "check its permissions");
  struct stat st {};
  const bool known = ::fstat(fd, &st) == 0;
  if (!known || S_ISDIR(st.st_mode)) {
    const std::string why = known ? "is a folder, not a file" : std::string("cannot be read: ") + std::strerror(errno);
    ::close(fd);
    throw Error(ErrorCode::Io, why, name_, "name a file");
  }
  state_ = FileState(st);
  {
    std::lock_guard lock(all().mutex);
    fd_ = fd;
    users_ = 1;
    ++all().open;
  }
  release();
}

DiskFile::~DiskFile() {
  int fd = -1;
  {
    std::lock_guard lock(all().mutex);
    if (fd_ < 0) return;
    all().idle.erase(place_);
    --all().open;
    fd = fd_;
  }
  ::close(fd);
}

// Where the system has no room left, after all idle ones were closed.
int DiskFile::opened() const {
  int fd = ::open(absolute_.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd >= 0 || (errno != EMFILE && errno != ENFILE)) return fd;
  std::vector<int> given_up;
  {
    std::lock_guard lock(all().mutex);
    for (const DiskFile* file : all().idle) given_up.push_back(std::exchange(file->fd_, -1));
    all().open -= all().idle.size();
    all().idle.clear();
  }
  close_all(given_up);
  return ::open(absolute_.c_str(), O_RDONLY | O_CLOEXEC);
}

int DiskFile::acquire() const {
  OpenOnes& ones = all();
  {
    std::lock_guard lock(ones.mutex);
    if (fd_ >= 0) {
      if (users_++ == 0) ones.idle.erase(place_);
      return fd_;
    }
  }
  // Without the lock: on a disk in the network it takes a while.
  const int fd = opened();
  if (fd < 0)
    throw Error(ErrorCode::Io, std::string("cannot be opened again: ") + std::strerror(errno), name_,
                "leave it where it is while it is read");
  // By size and time: some disks in the network number a file anew whenever it is opened.
  try {
    state_.expect_in(fd, name_);
  } catch (...) {
    ::close(fd);
    throw;
  }
  std::unique_lock lock(ones.mutex);
  if (fd_ >= 0) {  // another thread was quicker
    if (users_++ == 0) ones.idle.erase(place_);
    const int theirs = fd_;
    lock.unlock();
    ::close(fd);
    return theirs;
  }
  fd_ = fd;
  users_ = 1;
  ++ones.open;
  return fd_;
}

void DiskFile::release() const {
  OpenOnes& ones = all();
  std::vector<int> given_up;
  {
    std::lock_guard lock(ones.mutex);
    if (--users_ > 0) return;
    ones.idle.push_front(this);
    place_ = ones.idle.begin();
    for (; ones.open > ones.most && !ones.idle.empty(); --ones.open) {
      given_up.push_back(std::exchange(ones.idle.back()->fd_, -1));
      ones.idle.pop_back();
    }
  }
  close_all(given_up);
}

void DiskFile::set_most_open(std::size_t files) {
  std::lock_guard lock(all().mutex);
  all().most = files;
}

std::size_t DiskFile::open_now() {
  std::lock_guard lock(all().mutex);
  return all().open;
}

}  // namespace katoptra
