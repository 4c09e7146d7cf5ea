#include "guard.hpp"

#include <cerrno>
#include <csignal>
#include <ctime>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

// Of processor time, after which it is stuck; and altogether, for the slowest of disks.
constexpr int kBusySeconds = 10, kSeconds = 600;

// Whatever handles signals here has no business in the copy.
[[noreturn]] void run_copy(const std::function<void()>& probe) {
  for (int s : {SIGSEGV, SIGBUS, SIGABRT, SIGFPE, SIGILL, SIGINT, SIGTERM, SIGXCPU}) std::signal(s, SIG_DFL);
  const int nowhere = ::open("/dev/null", O_WRONLY);
  if (nowhere >= 0) {
    ::dup2(nowhere, 1);
    ::dup2(nowhere, 2);
  }
  const rlimit busy{kBusySeconds, kBusySeconds + 1};
  ::setrlimit(RLIMIT_CPU, &busy);
  try {
    probe();
  } catch (...) {
    // The same will be found, and told, outside.
  }
  ::_exit(0);
}

}  // namespace

void probe_in_a_copy(const std::string& file, const std::function<void()>& probe) {
  const pid_t child = ::fork();
  if (child < 0) return;
  if (child == 0) run_copy(probe);
  const std::time_t start = std::time(nullptr);
  int status = 0;
  for (;;) {
    const pid_t done = ::waitpid(child, &status, WNOHANG);
    if (done == child || (done < 0 && errno != EINTR)) break;
    if (std::time(nullptr) - start > kSeconds) {
      ::kill(child, SIGKILL);
      ::waitpid(child, &status, 0);
      throw Error(ErrorCode::BadFile, fmt::format("its header could not be read within {} seconds", kSeconds), file,
                  "it is damaged; fetch it again");
    }
    const timespec pause{0, 200000};
    ::nanosleep(&pause, nullptr);
  }
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0)
    throw Error(ErrorCode::BadFile, "is damaged in a way that the library which reads it does not survive", file,
                "fetch it again");
}

}  // namespace katoptra
