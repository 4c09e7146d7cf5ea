#include "katoptra/base/error.hpp"

#include <utility>

namespace katoptra {

Error::Error(ErrorCode code, std::string what, std::string where, std::string advice)
    : code_(code), problem_(std::move(what)), where_(std::move(where)), advice_(std::move(advice)) {
  if (!where_.empty()) text_ = where_ + ": ";
  text_ += problem_;
  if (!advice_.empty()) text_ += "; " + advice_;
  for (char& c : text_)
    if (c == '\n' || c == '\r') c = ' ';
}

Error Error::within(const std::string& outer) const {
  return {code_, problem_, where_.empty() ? outer : outer + ": " + where_, advice_};
}

}  // namespace katoptra
