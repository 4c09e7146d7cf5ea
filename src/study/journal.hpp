// What a run has made, step by step, kept beside it (steps.json): a run that was stopped goes on where it was, and one
// that is repeated does not make again what would come out the same.
#pragma once
#include <filesystem>
#include <map>
#include <string>
#include <vector>

namespace katoptra {

struct Study;
struct StudyPlan;

// The files beside a study that it names, wherever it does: areas, lines, separations, control points.
std::vector<std::filesystem::path> named_files(const Study& study);

// SHA-256 of a file's content in hexadecimal.
std::string checksum_of(const std::filesystem::path& path);

class Journal {
 public:
  // Of a run's folder; empty when there is none, or it cannot be read.
  explicit Journal(const std::filesystem::path& folder);

  // True when a run has begun there.
  bool begun() const { return begun_; }
  // True when the run came to its end.
  bool complete() const { return complete_; }
  // True when a step was made from just this (`key`), and its files are still what it made.
  bool holds(const std::string& step, const std::string& key) const;
  // What the step told of itself, as it was given to `add`.
  std::string facts(const std::string& step) const;
  std::vector<std::string> files(const std::string& step) const;
  void add(const std::string& step, const std::string& key, const std::vector<std::string>& files,
           const std::string& facts = "{}");
  void begin();
  void finish();

 private:
  struct Step {
    std::string key, facts;
    std::map<std::string, std::string> files;  // by name, with their checksums
  };
  void write() const;
  std::filesystem::path folder_;
  std::map<std::string, Step> steps_;
  bool begun_ = false, complete_ = false;
};

// A checksum over all that the surface is made from: the settings of the study file that bear on it, every file that
// they name, and the tiles that were chosen with what lies beside them.
std::string key_of_surface(const Study& study, const StudyPlan& plan);
// The same for a product of a surface.
std::string key_of_product(const Study& study, std::size_t product, const std::string& surface_checksum);

}  // namespace katoptra
