// Containers (HDF5, NetCDF) are read by a helper first; see formats/probe.hpp.
#pragma once
#include "katoptra/formats/grid_file.hpp"

#include "formats/bytes/located.hpp"

namespace katoptra {

enum class Container { Other, Bag, S102 };

// The first argument of the helper.
inline constexpr const char* kProbeVerb = "probe-container";

// Has the helper read the header and some blocks of a container, and tells what it is. BadFile when the helper came to
// grief or was busy for more than ten seconds; MissingResource when there is none. An Error that reading raises there
// is not carried over: do the same here to get it. What was found sound is not probed again while it does not change.
Container probe_apart(const Located& file, const OpenOptions& options);

// For the helper: reads what opening and reading will ask the libraries for.
bool holds_bag(const Located& file);
void look_through_bag(const Located& file);
bool holds_s102(const Located& file);
void look_through_s102(const Located& file);
void look_through_netcdf(const Located& file, const OpenOptions& options);

}  // namespace katoptra
