// LAS and LAZ as they are written: one pass over the points, the header last.
#pragma once
#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"

#include "las_header.hpp"

namespace katoptra::las {

// Fills in what came out; the caller commits the sink.
void write_las(const PointCloud& cloud, ByteSink& sink, bool compressed, const PointWriteOptions& options,
               PointWriteReport& report);

}  // namespace katoptra::las
