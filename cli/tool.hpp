// The tool as a function, for programs that are it and something more.
#pragma once

namespace katoptra {

// Reads the command line, does what it says, prints what comes of it. Returns the exit status.
int run_tool(int argc, char** argv);
// Not for people: the tool was started by itself, to try a file that may take the process down.
bool is_own_helper(int argc, char** argv);

}  // namespace katoptra
