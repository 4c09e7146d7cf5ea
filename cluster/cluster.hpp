// Processes that MPI started, as ranks that share work (base/ranks.hpp).
//
//   int main(int argc, char** argv) {
//     Cluster cluster(argc, argv);
//     const int status = run_tool(argc, argv);   // the same in every process
//     return cluster.leave(status);
//   }
//
// The first hands out numbers of results as others become free, makes results itself, and places all in order. What the
// others make travels to it in the order in which they are done. A process that cannot follow (it lacks a file, or ends
// the run otherwise) says so and leaves; its numbers are handed out again. One that dies ends the job: MPI sees to
// that.
#pragma once
#include <cstdint>
#include <memory>
#include <string>

#include "base/ranks.hpp"

namespace katoptra {

class Cluster final : public Ranks {
 public:
  // Must be made on the thread that will call `share`, once a process.
  Cluster(int& argc, char**& argv);
  ~Cluster() override;

  bool is_first() const override;
  int rank() const;
  int size() const;
  void share(const SharedWork& work) override;
  // At the end, in every process: waits until all have come here. Returns the status of this process, in those that
  // only helped 0: theirs is not the outcome. `why`: what kept it from helping, if anything did.
  int leave(int status, const std::string& why = {});
  // Who made how much, in the first process, after all have left.
  std::string told() const;

 private:
  class First;
  class Helper;
  std::unique_ptr<First> first_;
  std::unique_ptr<Helper> helper_;
};

}  // namespace katoptra
