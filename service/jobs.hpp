// Extraction on demand: jobs of OGC API - Processes, one after the other, each a real mosaic, fill, cut and conversion.
#pragma once
#include <condition_variable>
#include <filesystem>
#include <list>
#include <map>
#include <mutex>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <thread>

#include "katoptra/base/progress.hpp"
#include "katoptra/catalogue/catalogue.hpp"

namespace katoptra {

class Jobs {
 public:
  Jobs(const Catalogue& catalogue, int wait_seconds);
  ~Jobs();

  // What the process is, as the standard describes it.
  static nlohmann::ordered_json description();
  // The number of the new job. BadArgument when the inputs are not what the process takes.
  std::string submit(const nlohmann::json& request);
  // nullopt when there is no such job.
  std::optional<nlohmann::ordered_json> status(const std::string& id) const;
  nlohmann::ordered_json all() const;
  bool dismiss(const std::string& id);
  // The file a job made; empty while it is not done.
  std::filesystem::path result(const std::string& id) const;

 private:
  struct Job {
    std::string id, state = "accepted", message, created, started, finished, updated;
    nlohmann::json inputs;
    std::filesystem::path file;
    std::shared_ptr<Progress> progress;
    int percent = 0;
  };
  void work();
  void run(Job& job);
  nlohmann::ordered_json told(const Job& job) const;
  void change(Job& job, const std::string& state, const std::string& message, int percent);

  const Catalogue& catalogue_;
  int wait_seconds_;
  std::filesystem::path folder_;
  mutable std::mutex mutex_;
  std::condition_variable more_;
  std::map<std::string, Job> jobs_;
  std::list<std::string> queue_;
  bool ending_ = false;
  std::thread worker_;
};

}  // namespace katoptra
