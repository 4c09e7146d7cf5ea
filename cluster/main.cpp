// The tool on several processes, or machines: mpirun -n 8 katoptra-mpi mosaic ...
//
// All run the same command line. What they can share they make together; the first process alone prints and leaves
// files. Commands that have nothing to share are run by the first alone.
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <string_view>

#include "katoptra/terrain/products.hpp"

#include "cluster.hpp"
#include "tool.hpp"

namespace {

// Verbs that read files, compute cells and write them: run twice at once they disturb nobody. A product is a verb.
bool can_help(std::string_view verb) {
  static constexpr std::string_view kVerbs[] = {"mosaic", "fill",   "clip", "reproject",  "correct",
                                                "grid",   "derive", "flow", "statistics", "check"};
  return std::find(std::begin(kVerbs), std::end(kVerbs), verb) != std::end(kVerbs) || katoptra::product_named(verb);
}

}  // namespace

int main(int argc, char** argv) {
  using namespace katoptra;
  if (is_own_helper(argc, argv)) return run_tool(argc, argv);
  Cluster cluster(argc, argv);
  if (!cluster.is_first()) {
    if (!std::freopen("/dev/null", "w", stdout) || !std::freopen("/dev/null", "w", stderr)) return cluster.leave(4);
    if (!can_help(argc > 1 ? argv[1] : "")) return cluster.leave(0);
  }
  const int ran = run_tool(argc, argv);
  // Status 1 is an answer: a check found something.
  const bool failed = !cluster.is_first() && ran > 1;
  const int status = cluster.leave(ran, failed ? "its command failed" : "");
  if (cluster.is_first() && std::getenv("KATOPTRA_TELL_RANKS")) std::fprintf(stderr, "%s\n", cluster.told().c_str());
  return status;
}
