#include "guard.hpp"

#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <optional>
#include <spawn.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/probe.hpp"

#include "container.hpp"
#include "formats/bytes/descriptor.hpp"
#include "formats/readers.hpp"

extern char** environ;

namespace katoptra {
namespace fs = std::filesystem;
namespace {

// Of processor time, after which the helper is stuck; and altogether, for the slowest of disks.
constexpr int kBusySeconds = 10, kSeconds = 120;
constexpr int kIsBag = 10, kIsOther = 11, kIsS102 = 12;  // what the helper exits with
constexpr int kInherited = 3;                            // the descriptor of a file that has no name of its own

std::mutex g_mutex;
fs::path g_helper;

std::vector<fs::path> places_of_helper() {
  std::vector<fs::path> places;
  if (const char* named = std::getenv("KATOPTRA_HELPER"); named && *named) return {named};
  {
    std::lock_guard lock(g_mutex);
    if (!g_helper.empty()) places.push_back(g_helper);
  }
  std::error_code ec;
  if (const fs::path self = fs::read_symlink("/proc/self/exe", ec); !ec) {
    places.push_back(self.parent_path() / "katoptra");
    places.push_back(self.parent_path().parent_path() / "bin" / "katoptra");
  }
#ifdef KATOPTRA_INSTALLED_TOOL
  places.emplace_back(KATOPTRA_INSTALLED_TOOL);
#endif
  if (const char* path = std::getenv("PATH")) {
    std::string_view rest = path;
    while (!rest.empty()) {
      const auto colon = rest.find(':');
      if (const std::string_view part = rest.substr(0, colon); part.starts_with('/'))
        places.push_back(fs::path(part) / "katoptra");
      rest = colon == rest.npos ? std::string_view() : rest.substr(colon + 1);
    }
  }
  return places;
}

fs::path helper() {
  for (const fs::path& p : places_of_helper())
    if (::access(p.c_str(), X_OK) == 0) return p;
  throw Error(ErrorCode::MissingResource, "the program that tries such files first, katoptra, is not found", {},
              "install it beside this program, or name it in KATOPTRA_HELPER");
}

// What lies in an archive or on the web as a file without a name.
int as_descriptor(const Located& file) {
  const std::vector<std::uint8_t> bytes = container_bytes(file);
  const int fd = ::memfd_create("container", MFD_CLOEXEC);
  if (fd < 0) throw Error(ErrorCode::Io, "no memory can be had for it", file.bytes->name(), "unpack it first");
  try {
    write_descriptor(fd, 0, bytes, file.bytes->name());
  } catch (...) {
    ::close(fd);
    throw;
  }
  return fd;
}

class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int get() const { return fd_; }

 private:
  int fd_;
};

[[noreturn]] void refuse(const std::string& file, const std::string& why) {
  throw Error(ErrorCode::BadFile, why, file, "it is damaged; fetch it again");
}

// posix_spawn, never fork: a copy of a process with threads may wait for ever for a lock that one of them held.
pid_t start(const fs::path& program, const std::vector<std::string>& words, int inherited, const std::string& file) {
  posix_spawn_file_actions_t actions;
  posix_spawnattr_t attributes;
  posix_spawn_file_actions_init(&actions);
  posix_spawnattr_init(&attributes);
  posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  for (int fd : {1, 2}) posix_spawn_file_actions_addopen(&actions, fd, "/dev/null", O_WRONLY, 0);
  if (inherited >= 0) posix_spawn_file_actions_adddup2(&actions, inherited, kInherited);
  // The helper has the usual signals, and is no member of the group that a terminal interrupts: it is ended by us.
  sigset_t none, all;
  sigemptyset(&none);
  sigfillset(&all);
  posix_spawnattr_setsigmask(&attributes, &none);
  posix_spawnattr_setsigdefault(&attributes, &all);
  posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF);
  std::vector<char*> argv;
  for (const std::string& w : words) argv.push_back(const_cast<char*>(w.c_str()));
  argv.push_back(nullptr);
  pid_t child = -1;
  const int failed = ::posix_spawn(&child, program.c_str(), &actions, &attributes, argv.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  posix_spawnattr_destroy(&attributes);
  if (failed != 0)
    throw Error(ErrorCode::MissingResource,
                fmt::format("the program that tries it first cannot be started ({})", std::strerror(failed)), file,
                "check " + program.string());
  return child;
}

int wait_for(pid_t child, const std::string& file) {
  const std::time_t begin = std::time(nullptr);
  for (long pause = 200'000;; pause = std::min(pause * 2, 5'000'000L)) {
    int status = 0;
    const pid_t done = ::waitpid(child, &status, WNOHANG);
    if (done == child) return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    if (done < 0 && errno != EINTR) return -1;  // somebody else has waited for it
    if (std::time(nullptr) - begin > kSeconds) {
      ::kill(child, SIGKILL);
      ::waitpid(child, &status, 0);
      refuse(file, fmt::format("its header could not be read within {} seconds", kSeconds));
    }
    const timespec t{0, pause};
    ::nanosleep(&t, nullptr);
  }
}

// Names a file on the disk as it is now; empty for others.
std::string state_of(const Located& file, const OpenOptions& options) {
  struct stat st {};
  const fs::path& path = file.path.empty() ? file.on_disk : file.path;
  if (path.empty() || ::stat(path.c_str(), &st) != 0) return {};
  return fmt::format("{}|{}|{}|{}.{}|{}|{}", st.st_dev, st.st_ino, st.st_size, st.st_mtim.tv_sec, st.st_mtim.tv_nsec,
                     file.bytes->name(), options.band);
}

}  // namespace

void set_probe_helper(fs::path program) {
  std::lock_guard lock(g_mutex);
  g_helper = std::move(program);
}

Container probe_apart(const Located& file, const OpenOptions& options) {
  static std::mutex mutex;
  static std::map<std::string, Container> sound;
  const std::string state = state_of(file, options), &name = file.bytes->name();
  {
    std::lock_guard lock(mutex);
    if (const auto it = sound.find(state); !state.empty() && it != sound.end()) return it->second;
  }
  const Descriptor inherited(file.path.empty() ? as_descriptor(file) : -1);
  const std::string path =
      file.path.empty() ? fmt::format("/proc/self/fd/{}", kInherited) : fs::absolute(file.path).string();
  const fs::path program = helper();
  const int status =
      wait_for(start(program, {program.string(), kProbeVerb, path, options.band}, inherited.get(), name), name);
  if (status != kIsBag && status != kIsOther && status != kIsS102)
    refuse(name, "is damaged in a way that the library which reads it does not survive");
  const Container found = status == kIsBag ? Container::Bag : status == kIsS102 ? Container::S102 : Container::Other;
  if (!state.empty()) {
    std::lock_guard lock(mutex);
    if (sound.size() > 100'000) sound.clear();
    sound[state] = found;
  }
  return found;
}

int run_probe(int argc, char** argv) {
  const rlimit busy{kBusySeconds, kBusySeconds + 1};
  ::setrlimit(RLIMIT_CPU, &busy);
  const rlimit none{0, 0};
  ::setrlimit(RLIMIT_CORE, &none);
  if (argc < 4) return 2;
  OpenOptions options;
  options.band = argv[3];
  int found = kIsOther;
  try {
    Located file;
    file.path = file.on_disk = argv[2];
    file.bytes = open_file(file.path);
    file.name = file.path.filename().string();
    if (!is_netcdf_classic(file.bytes->head(64)))
      found = holds_bag(file) ? kIsBag : holds_s102(file) ? kIsS102 : kIsOther;
    if (found == kIsBag)
      look_through_bag(file);
    else if (found == kIsS102)
      look_through_s102(file);
    else
      look_through_netcdf(file, options);
  } catch (const std::exception&) {
    // The same will be found, and told, where it is opened.
  }
  return found;
}

}  // namespace katoptra
