// The tool on several processes, or machines: mpirun -n 8 katoptra-mpi mosaic ...
//
// All run the same command line. What they can share they make together; the first process alone prints and leaves
// files. Commands that have nothing to share are run by the first alone.
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <string_view>

#include "cluster.hpp"
#include "tool.hpp"

namespace {

// Verbs that read files, compute cells and write them: run twice at once they disturb nobody.
bool can_help(int argc, char** argv) {
  static constexpr std::string_view kVerbs[] = {"mosaic", "fill",      "clip",     "reproject", "correct",
                                                "grid",   "hillshade", "shadows",  "sky-view",  "slope",
                                                "aspect", "curvature", "position", "openness",  "landforms",
                                                "derive", "roughness", "flow",     "ruggedness"};
  return argc > 1 && std::find(std::begin(kVerbs), std::end(kVerbs), argv[1]) != std::end(kVerbs);
}

}  // namespace

int main(int argc, char** argv) {
  using namespace katoptra;
  if (is_own_helper(argc, argv)) return run_tool(argc, argv);
  Cluster cluster(argc, argv);
  if (!cluster.is_first()) {
    if (!std::freopen("/dev/null", "w", stdout) || !std::freopen("/dev/null", "w", stderr)) return cluster.leave(4);
    if (!can_help(argc, argv)) return cluster.leave(0);
  }
  const int ran = run_tool(argc, argv);
  const bool failed = !cluster.is_first() && ran != 0;
  const int status = cluster.leave(ran, failed ? "its command failed" : "");
  if (cluster.is_first() && std::getenv("KATOPTRA_TELL_RANKS")) std::fprintf(stderr, "%s\n", cluster.told().c_str());
  return status;
}
