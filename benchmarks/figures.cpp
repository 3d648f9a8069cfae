#include "benchmarks/figures.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/atomic_file.hpp"
#include "core/audio/clip.hpp"
#include "core/json.hpp"

namespace heathmist::bench {

namespace {

/// Three digits that count.
std::string short_text(double value, const std::string& unit) {
  if (!std::isfinite(value)) return "not measured";
  const double size = std::abs(value);
  const int decimals = size >= 100 ? 0 : size >= 10 ? 1 : size >= 1 ? 2 : 3;
  return fmt::format("{:.{}f}{}{}", value, decimals, unit.empty() ? "" : " ", unit);
}

const Figure* found_in(const std::vector<Figure>& all, const Figure& like) {
  const auto at = std::find_if(all.begin(), all.end(), [&](const Figure& f) {
    return f.what == like.what && f.against == like.against && f.unit == like.unit;
  });
  return at == all.end() ? nullptr : &*at;
}

std::string change_text(const Figure& now, const Figure* was) {
  if (!was) return "";
  const std::string before = short_text(was->value, was->unit);
  const double percent = 100 * (now.value / was->value - 1);  // none where it was nothing, or not measured
  return std::isfinite(percent) ? fmt::format("{} ({:+.0f} %)", before, percent) : before;
}

}  // namespace

std::string table_of(const std::vector<Figure>& figures, const std::vector<Figure>& before) {
  size_t wide = 0;
  const auto name_of = [](const Figure& f) { return f.against.empty() ? f.what : f.what + " / " + f.against; };
  for (const Figure& f : figures) wide = std::max(wide, name_of(f).size());
  std::string table = fmt::format("{:{}}  {:>12}  {:>12}  {:6}  {}\n", "what / against", wide, "value", "to reach", "",
                                  before.empty() ? "" : "before");
  for (const Figure& f : figures) {
    const bool is_number = std::isfinite(f.value);
    const std::string bound = f.to_reach ? (f.more_is_better ? ">= " : "<= ") + short_text(*f.to_reach, f.unit) : "";
    std::string line =
        fmt::format("{:{}}  {:>12}  {:>12}  {:6}  {}", name_of(f), wide, short_text(f.value, f.unit), bound,
                    !f.to_reach || !is_number ? ""
                    : f.is_met()              ? "met"
                                              : "missed",
                    is_number ? change_text(f, found_in(before, f)) : "");
    line.erase(line.find_last_not_of(' ') + 1);
    table += line + "\n";
  }
  return table;
}

void write_figures(const std::vector<Figure>& figures, const std::filesystem::path& file) {
  Json all = Json::array();
  for (const Figure& f : figures) {
    all.push_back({{"what", f.what}, {"against", f.against}, {"value", f.value}, {"unit", f.unit}});
    if (!std::isfinite(f.value)) all.back()["value"] = nullptr;
    if (f.to_reach) all.back()[f.more_is_better ? "at_least" : "at_most"] = *f.to_reach;
  }
  AtomicFile out{Destination(file)};
  out.write(text_of({{"figures", all}}) + "\n");
  out.commit();
}

std::vector<Figure> read_figures(const std::filesystem::path& file) {
  try {
    const Json kept = json_from_file(file);
    std::vector<Figure> figures;
    for (const Json& json : kept.at("figures")) {
      const bool more = json.contains("at_least");
      Figure f{json.at("what"), json.at("against"), std::nan(""), json.at("unit"), {}, more};
      if (json.at("value").is_number()) f.value = json.at("value");
      if (const char* bound = more ? "at_least" : "at_most"; json.contains(bound)) f.to_reach = json.at(bound);
      figures.push_back(std::move(f));
    }
    return figures;
  } catch (const JsonError& error) {
    throw InputError(file, fmt::format("{}; give a file that --json wrote", error.what()));
  } catch (const Json::exception&) {
    throw InputError(file, "these are no figures of a run; give a file that --json wrote");
  }
}

}  // namespace heathmist::bench
