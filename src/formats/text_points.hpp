// Points in text, with whatever columns the header line names.
#pragma once
#include <memory>

#include "katoptra/formats/bytes.hpp"
#include "katoptra/formats/point_file.hpp"

namespace katoptra {

PointFile open_text_points(const std::shared_ptr<ByteSource>& file, const PointOpenOptions& options);
// All points as lines; fills in what came out, the caller commits the sink.
void write_text_points(const PointCloud& cloud, ByteSink& sink, const std::string& extension,
                       const PointWriteOptions& options, PointWriteReport& report);

}  // namespace katoptra
