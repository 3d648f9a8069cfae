// Strict reading of JSON: a value that is not what is meant is refused with its place.
#pragma once
#include <fmt/format.h>

#include <cmath>
#include <vector>

#include "core/json.hpp"

namespace heathmist {

/// A value on its way in: it knows where in the document it stands, and says so where it is not what is meant. Refers
/// to the JSON it is of. All but has() and json() throw std::invalid_argument.
class JsonPlace {
 public:
  JsonPlace(const Json& value, std::string where) : value_(value), where_(std::move(where)) {}

  [[noreturn]] void refuse(const std::string& what) const {
    throw std::invalid_argument((where_.empty() ? "it" : where_) + " " + what);
  }
  bool has(const char* key) const { return value_.is_object() && value_.contains(key); }
  JsonPlace at(const char* key) const {
    object();
    if (!value_.contains(key)) refuse(fmt::format("lacks \"{}\"", key));
    return {value_.at(key), where_.empty() ? key : where_ + "." + key};
  }
  const Json& object() const {
    if (!value_.is_object()) refuse("must be an object in braces");
    return value_;
  }
  std::vector<JsonPlace> list() const {
    if (!value_.is_array()) refuse("must be a list in brackets");
    std::vector<JsonPlace> places;
    for (size_t n = 0; n < value_.size(); ++n) places.emplace_back(value_[n], fmt::format("{}[{}]", where_, n));
    return places;
  }
  std::string text() const {
    if (!value_.is_string()) refuse("must be text in quotes");
    return value_.get<std::string>();
  }
  double number() const {
    if (!value_.is_number() || !std::isfinite(value_.get<double>())) refuse("must be a number");
    return value_.get<double>();
  }
  int whole(int low, int high) const {
    if (!value_.is_number_integer() || value_ < low || value_ > high)
      refuse(fmt::format("must be a whole number from {} to {}", low, high));
    return value_.get<int>();
  }
  bool flag() const {
    if (!value_.is_boolean()) refuse("must be true or false");
    return value_.get<bool>();
  }
  const Json& json() const { return value_; }

 private:
  const Json& value_;
  std::string where_;
};

}  // namespace heathmist
