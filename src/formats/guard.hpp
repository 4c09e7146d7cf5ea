// HDF5 and the libraries on it were not made for hostile input: a damaged file can end the process that reads it, or
// keep it busy for ever. So such a file is first read in a copy of the process; what happens there happens there only.
#pragma once
#include <functional>
#include <string>

namespace katoptra {

// Runs `probe` in a copy of this process and waits for it. BadFile when the copy came to grief, or was busy for more
// than ten seconds without coming to an end. An Error that `probe` throws there is not carried over: do the same here
// to get it. Where no copy can be made nothing is probed.
void probe_in_a_copy(const std::string& file, const std::function<void()>& probe);

}  // namespace katoptra
