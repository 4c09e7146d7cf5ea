#include "disk_file.hpp"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <mutex>
#include <sys/resource.h>
#include <utility>

namespace katoptra {
namespace fs = std::filesystem;
namespace {

struct OpenOnes {
  std::mutex mutex;
  std::list<const DiskFile*> idle;  // front: used last; files bring the nodes, so that nothing is allocated
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
    if (fd_ >= 0) fd = given_up();
  }
  if (fd >= 0) ::close(fd);
}

// Its descriptor, which is idle, for the caller to close without the lock.
int DiskFile::given_up() const {
  node_.splice(node_.begin(), all().idle, place_);
  --all().open;
  return std::exchange(fd_, -1);
}

// Closes those that have been idle longest until no more than so many are open.
void DiskFile::close_idle(std::size_t most) {
  OpenOnes& ones = all();
  for (;;) {
    int fd = -1;
    {
      std::lock_guard lock(ones.mutex);
      if (ones.open <= most || ones.idle.empty()) return;
      fd = ones.idle.back()->given_up();
    }
    ::close(fd);
  }
}

// Once more where the system has no room left, after all idle ones were closed.
int DiskFile::opened() const {
  const int fd = ::open(absolute_.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd >= 0 || (errno != EMFILE && errno != ENFILE)) return fd;
  close_idle(0);
  return ::open(absolute_.c_str(), O_RDONLY | O_CLOEXEC);
}

// Under the lock, of one that is open.
int DiskFile::used() const {
  if (users_++ == 0) node_.splice(node_.begin(), all().idle, place_);
  return fd_;
}

int DiskFile::acquire() const {
  OpenOnes& ones = all();
  {
    std::lock_guard lock(ones.mutex);
    if (fd_ >= 0) return used();
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
    const int theirs = used();
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
  std::size_t most = 0;
  {
    std::lock_guard lock(ones.mutex);
    if (--users_ > 0) return;
    ones.idle.splice(ones.idle.begin(), node_);
    if (ones.open <= ones.most) return;
    most = ones.most;
  }
  close_idle(most);
}

std::size_t DiskFile::set_most_open(std::size_t files) {
  std::lock_guard lock(all().mutex);
  return std::exchange(all().most, files);
}

std::size_t DiskFile::open_now() {
  std::lock_guard lock(all().mutex);
  return all().open;
}

}  // namespace katoptra
