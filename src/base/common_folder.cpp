#include "common_folder.hpp"

#include <cstdlib>
#include <fstream>
#include <iterator>
#include <random>
#include <sys/stat.h>
#include <system_error>
#include <vector>

#include "katoptra/base/error.hpp"

#include "scratch.hpp"
#include "shared_parts.hpp"

namespace katoptra {
namespace {

// Where it lies, and what stands in a file of it: another machine may have a folder of the same name.
struct Told {
  std::vector<char> path, mark;
  template <class Fields>
  void fields(Fields& f) {
    f(path, mark);
  }
};
constexpr const char* kMark = "mark";

Told make_folder(const std::string& wanted_for) {
  std::string path = temporary_folder() + "/katoptra-XXXXXX";
  if (!::mkdtemp(path.data()))
    throw Error(ErrorCode::Io, fmt::format("no temporary folder can be made for it: {}", std::strerror(errno)),
                wanted_for, "set TMPDIR to a folder that can be written");
  Told t{{path.begin(), path.end()}, std::vector<char>(16)};
  std::random_device random;
  for (char& c : t.mark) c = static_cast<char>(random());
  std::ofstream(path + "/" + kMark, std::ios::binary).write(t.mark.data(), std::ssize(t.mark));
  return t;
}

}  // namespace

std::shared_ptr<const CommonFolder> CommonFolder::made(const RunOptions& run, const std::string& wanted_for) {
  if (!work_is_shared()) return nullptr;
  const std::shared_ptr<CommonFolder> f(new CommonFolder);
  RunOptions silent = run;
  silent.silent = true;
  share_parts<Told>(
      1, silent,
      [&](std::size_t) {
        Told t = make_folder(wanted_for);
        f->own_.assign(t.path.begin(), t.path.end());
        return t;
      },
      [&](std::size_t, const Told& t) {
        f->path_.assign(t.path.begin(), t.path.end());
        std::ifstream in(f->file(kMark), std::ios::binary);
        f->seen_ = std::vector<char>(std::istreambuf_iterator<char>(in), {}) == t.mark;
      });
  return f;
}

// Under another name first: one who is late would make files in it again.
CommonFolder::~CommonFolder() {
  if (own_.empty()) return;
  std::error_code failed;
  std::filesystem::path gone = own_;
  gone += "-gone";
  std::filesystem::rename(own_, gone, failed);
  std::filesystem::remove_all(failed ? own_ : gone, failed);
}

ScratchFile::ScratchFile(std::string wanted_for, const std::shared_ptr<const CommonFolder>& folder,
                         const std::string& name)
    : wanted_for_(std::move(wanted_for)) {
  if (is_seen(folder)) {
    folder_ = folder;
    path_ = folder->file(name).string();
  } else {
    own_ = open_unnamed_file(wanted_for_);
  }
}
ScratchFile::~ScratchFile() {
  if (own_ >= 0) ::close(own_);
}

ScratchFile::Turn::Turn(const ScratchFile& file) : file_(file), descriptor_(file.own_) {
  if (descriptor_ >= 0) return;
  descriptor_ = ::open(file.path_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600);
  if (descriptor_ < 0)
    throw Error(ErrorCode::Io,
                fmt::format("its temporary file {} cannot be opened: {}", file.path_, std::strerror(errno)),
                file.wanted_for_, "check the disk");
}
ScratchFile::Turn::~Turn() {
  if (file_.own_ < 0 && descriptor_ >= 0) ::close(descriptor_);
}
void ScratchFile::Turn::write(std::uint64_t offset, std::span<const std::uint8_t> bytes) {
  try {
    write_descriptor(descriptor_, offset, bytes, file_.wanted_for_);
  } catch (const Error& e) {
    throw Error(e.code(), "its temporary file " + e.problem(), file_.wanted_for_,
                e.advice() + ", or set TMPDIR to another folder");
  }
}
void ScratchFile::Turn::read(std::uint64_t offset, std::span<std::uint8_t> out) {
  if (read_descriptor(descriptor_, offset, out, file_.wanted_for_) != out.size())
    throw Error(ErrorCode::Io, "the temporary file ends early", file_.wanted_for_, "check the disk");
}
void ScratchFile::Turn::reach(std::uint64_t bytes) {
  struct stat s = {};
  // Several processes may do so at once, for the same size.
  if (::fstat(descriptor_, &s) == 0 && static_cast<std::uint64_t>(s.st_size) >= bytes) return;
  if (::ftruncate(descriptor_, static_cast<off_t>(bytes)) != 0)
    throw Error(ErrorCode::Io,
                fmt::format("its temporary file of {} MiB cannot be made: {}", (bytes >> 20) + 1, std::strerror(errno)),
                file_.wanted_for_, "set TMPDIR to a folder with more room");
}
void ScratchFile::Turn::end() {
  if (file_.own_ >= 0) return;
  if (::close(std::exchange(descriptor_, -1)) != 0)
    throw Error(ErrorCode::Io, fmt::format("its temporary file cannot be written: {}", std::strerror(errno)),
                file_.wanted_for_, "check the disk");
}

}  // namespace katoptra
