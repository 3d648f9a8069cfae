// heathmist-demo FOLDER: writes the demo data and the demo bench.
#include <fmt/format.h>

#include <exception>

#include "demo/writer.hpp"

int main(int argc, char** argv) {
  if (argc != 2) {
    fmt::print(stderr, "usage: heathmist-demo FOLDER\n");
    return 2;
  }
  try {
    fmt::print("{}\n", heathmist::demo::write_demo(argv[1]).string());
    return 0;
  } catch (const std::exception& error) {
    fmt::print(stderr, "heathmist-demo: {}\n", error.what());
    return 1;
  }
}
