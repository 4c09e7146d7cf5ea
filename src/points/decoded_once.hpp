// A cloud that is read several times over and is dear to read: what the first reading of a part gave waits in a
// temporary file for the others.
#pragma once
#include "katoptra/points/points.hpp"

namespace katoptra {

// The same points. Only columns of `fields` wait (and the places); who asks for others has the part read anew. Where
// temporary files find no room everything is read anew.
PointCloud decoded_once(const PointCloud& cloud, PointFields fields);

}  // namespace katoptra
