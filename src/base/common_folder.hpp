// Temporary files that processes which share work have in common. What is as large as a surface and made in parts by
// all of them need not travel then: each writes its parts, all read them.
//
// The folder lies in TMPDIR (else /tmp) of the process that makes it. One that does not see it, for it is on another
// disk, has files of its own and makes all parts itself (share_written in shared_parts.hpp). A part may be made twice,
// and the second time late, so that nothing in these files is ever written over by something else: what comes of a
// plane is another plane.
#pragma once
#include <cstdint>
#include <filesystem>
#include <memory>
#include <span>
#include <string>

#include "katoptra/base/run_options.hpp"

namespace katoptra {

class CommonFolder {
 public:
  // Null where work is not shared. All processes call it at the same place. `wanted_for`: the file in an Error.
  static std::shared_ptr<const CommonFolder> made(const RunOptions& run, const std::string& wanted_for);
  // The one who made it takes it away.
  ~CommonFolder();
  CommonFolder(const CommonFolder&) = delete;
  CommonFolder& operator=(const CommonFolder&) = delete;
  // Whether this process sees it.
  bool is_seen() const { return seen_; }
  std::filesystem::path file(const std::string& name) const { return path_ / name; }

 private:
  CommonFolder() = default;
  std::filesystem::path path_, own_;
  bool seen_ = false;
};
inline bool is_seen(const std::shared_ptr<const CommonFolder>& f) { return f && f->is_seen(); }

// A temporary file: without a name and of this process alone, or in a folder that is seen. The latter is opened and
// closed for each turn, as a shared disk wants it: what is closed can be read by others.
class ScratchFile {
 public:
  explicit ScratchFile(std::string wanted_for, const std::shared_ptr<const CommonFolder>& folder = nullptr,
                       const std::string& name = {});
  ~ScratchFile();
  ScratchFile(const ScratchFile&) = delete;
  ScratchFile& operator=(const ScratchFile&) = delete;

  // Any thread, at once. Io when the disk does not take or give it.
  class Turn {
   public:
    explicit Turn(const ScratchFile& file);
    ~Turn();
    Turn(const Turn&) = delete;
    Turn& operator=(const Turn&) = delete;
    void write(std::uint64_t offset, std::span<const std::uint8_t> bytes);
    // The file has so many bytes at least, zeros where nothing was written.
    void reach(std::uint64_t bytes);
    // All of out.size() bytes.
    void read(std::uint64_t offset, std::span<std::uint8_t> out);
    // After writing: now it is told when that failed.
    void end();

   private:
    const ScratchFile& file_;
    int descriptor_;
  };

 private:
  std::string wanted_for_, path_;
  int own_ = -1;
  std::shared_ptr<const CommonFolder> folder_;
};

}  // namespace katoptra
