// Bringing the tiles of a shortlist here: in parallel, resumed, verified, and never half.
//
//   FetchPlan p = plan_fetch(read_shortlist("list.csv"), {.folder = "tiles"});      // sizes and time, nothing moves
//   FetchReport r = fetch_tiles(read_shortlist("list.csv"), {.folder = "tiles"});
//   r.missing();                                                                    // what could not be had, and why
//
// A tile goes to FOLDER/SURVEY/NAME. While it comes, it is .NAME.part with a note of where it comes from and which
// version it is; killed at any byte, the next run goes on from there when the server still has that version, and starts
// again when not. It gets its name when its size is right and its checksum, where the catalogue gives one (multihash of
// SHA-256 or SHA-1), is right. A tile that is here already is left alone. Each survey's folder gets a survey.toml, and
// FOLDER a shortlist.csv with the places of the tiles now. Nothing is written outside FOLDER, whatever names a
// catalogue uses.
#pragma once
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "katoptra/base/run_options.hpp"
#include "katoptra/catalogue/find.hpp"
#include "katoptra/formats/http.hpp"

namespace katoptra {

struct FetchProgress {
  std::size_t files = 0, done = 0;
  std::uint64_t bytes = 0, moved = 0;       // 0 bytes: sizes are not known
  double per_second = 0, seconds_left = 0;  // 0 until it is known
};

struct FetchOptions {
  std::filesystem::path folder;
  int parallel = 4;        // connections at once
  bool unpack = false;     // archives become folders
  bool overwrite = false;  // files of the same name that this program did not bring are replaced
  Patience patience;
  Progress* progress = nullptr;  // cancels
  std::function<void(const FetchProgress&)> say;
};

enum class FetchOutcome { Fetched, Resumed, Here, Failed };
const char* name_of(FetchOutcome outcome);  // "fetched" "resumed" "here" "failed"

struct FetchedTile {
  ShortlistEntry entry;
  std::filesystem::path path;  // where it is, or would be
  FetchOutcome outcome = FetchOutcome::Failed;
  std::uint64_t size = 0, moved = 0;
  std::string problem;  // why it failed
  std::string note;     // what should be known though it did not
  std::vector<std::filesystem::path> unpacked;
};

struct FetchPlan {
  std::vector<FetchedTile> tiles;  // `Here`, or `Failed` with a problem that is known before, else `Fetched`
  std::uint64_t bytes = 0;         // to move
  std::size_t unknown = 0;         // tiles whose size nobody tells
  std::uint64_t free_bytes = 0;    // on the disk of the folder
};

struct FetchReport {
  std::vector<FetchedTile> tiles;
  std::uint64_t moved = 0;
  double seconds = 0;
  std::filesystem::path shortlist;
  std::vector<const FetchedTile*> missing() const;
};

// Asks for the sizes that the shortlist does not tell.
FetchPlan plan_fetch(const std::vector<ShortlistEntry>& entries, const FetchOptions& options);
// Tiles that fail do not stop the others. Io when the folder cannot be made or the disk is too small for what is to
// come; Cancelled (what came so far stays and is resumed).
FetchReport fetch_tiles(const std::vector<ShortlistEntry>& entries, const FetchOptions& options);
// One file the same way, to a path of the caller's.
FetchedTile fetch_file(const ShortlistEntry& entry, const std::filesystem::path& path, const FetchOptions& options);

// Is the file's content that of a multihash (hexadecimal)? nullopt: of a kind that is not computed here.
std::optional<bool> matches_multihash(const std::filesystem::path& path, const std::string& multihash);

}  // namespace katoptra
