// What keeps a file from being delivered, as one sentence with its number.
#pragma once
#include <optional>
#include <string>

namespace heathmist {

struct Fault {
  std::string code;  ///< stable snake case: the key of what was measured, or the rule's
  std::string text;
  std::optional<double> value{}, limit{};  ///< none: it is no number
  std::string unit{};
  std::optional<double> at_s{};  ///< where; none: it is no matter of a place
  bool operator==(const Fault&) const = default;
};

}  // namespace heathmist
