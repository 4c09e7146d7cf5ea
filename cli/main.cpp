#include "tool.hpp"

int main(int argc, char** argv) { return katoptra::run_tool(argc, argv); }
