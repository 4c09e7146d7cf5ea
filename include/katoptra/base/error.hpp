// One error for everything that can go wrong because of what was given from outside.
//
//   throw Error(ErrorCode::BadFile, "the header says 4 000 000 000 columns", "dem.tif", "fetch the file again");
//
// The code is a closed set and tells the caller what to do next; `what` says what is wrong, `where` names the file,
// tile or line, `advice` the next step. Context is put in front on the way up with `within`. Broken invariants of
// our own are assertions, never Errors. Nothing below the command line prints or exits.
#pragma once
#include <exception>
#include <string>

namespace katoptra {

enum class ErrorCode {
  BadArgument,      // the call is wrong: change the arguments
  BadFile,          // the content is damaged or not what it claims: get another copy
  Unsupported,      // valid, but not something this version reads or does
  Refused,          // the data do not belong together; say how they should be treated
  MissingResource,  // something that must be installed or named first (a conversion grid, a CRS)
  Io,               // the file system said no: path, permission, space
  Network,          // the other side or the way to it: try again later
  Cancelled,        // the caller asked to stop
  TooLarge,         // beyond a documented limit or the memory budget
};

class Error : public std::exception {
 public:
  Error(ErrorCode code, std::string what, std::string where = {}, std::string advice = {});

  ErrorCode code() const { return code_; }
  const std::string& problem() const { return problem_; }
  const std::string& where() const { return where_; }
  const std::string& advice() const { return advice_; }

  // "where: problem; advice", on one line.
  const char* what() const noexcept override { return text_.c_str(); }

  // The same error seen from one level up: `outer` is put in front of where.
  Error within(const std::string& outer) const;

 private:
  ErrorCode code_;
  std::string problem_, where_, advice_, text_;
};

}  // namespace katoptra
