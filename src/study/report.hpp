// The report of a study run, as one page of HTML with its pictures inside, and the record as JSON.
#pragma once
#include <string>
#include <utility>
#include <vector>

#include "katoptra/study/study.hpp"
#include "katoptra/view/map.hpp"
#include "katoptra/view/page.hpp"

namespace katoptra {

struct ReportPicture {
  std::string title, caption, file;
  Picture picture;
};

// `shown`: what its map can be asked (page_of_run). Without scripts the page says the same, with pictures.
std::string report_html(const Study& study, const StudyRun& run, const std::vector<ReportPicture>& pictures,
                        const SurfacePage& shown);
std::string record_json(const Study& study, const StudyRun& run);

}  // namespace katoptra
