// Points in text, with whatever columns the header line names.
#pragma once
#include <memory>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"

namespace katoptra {

PointFile open_text_points(const std::shared_ptr<ByteSource>& file, const PointOpenOptions& options);
// All points as lines, columns parted by blanks (XYZ) or as a table with a line of names. Fills in what came out, the
// caller commits the sink.
void write_xyz_points(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options,
                      PointWriteReport& report);
void write_table_points(const PointCloud& cloud, ByteSink& sink, const PointWriteOptions& options,
                        PointWriteReport& report);

}  // namespace katoptra
