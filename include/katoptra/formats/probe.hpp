// HDF5 and the libraries on it were not made for hostile input: a damaged file can end the process that reads it, or
// keep it busy for ever. So NetCDF and BAG files are first read by a helper, a program of its own; what happens there
// happens there only. The helper is the tool katoptra, found beside the running program, where it was installed, or on
// the PATH.
//
//   set_probe_helper("/opt/lib/katoptra");      // when it lies elsewhere
//
// Cost: some 20 ms a file, once while it does not change. Without a helper such files are refused (MissingResource).
#pragma once
#include <filesystem>

namespace katoptra {

// Where the helper is; the environment's KATOPTRA_HELPER goes before it.
void set_probe_helper(std::filesystem::path program);

// The helper's own work: arguments as probe_apart (src/formats/hdf5/guard.hpp) gives them. The status to exit with.
int run_probe(int argc, char** argv);

}  // namespace katoptra
