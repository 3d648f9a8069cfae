// Impulse responses as files: what is told of each for a master, and what running it costs.
//
//   auto programme = programme_spectrum("master.wav");
//   ResponseStudy s = study_response_file("hall.wav", programme);
#pragma once
#include <filesystem>

#include "core/json.hpp"
#include "core/measure/impulse_response.hpp"

namespace heathmist {

inline constexpr double response_cuts_db[] = {-60, -80, -100};

struct ResponseStudy {
  ImpulseResponse reading;
  struct Cut {
    std::optional<int64_t> frames;  ///< of its beginning that are enough; none: all of it is needed
    std::optional<double> work;     ///< as below, of that length
  };
  std::vector<Cut> cuts;       ///< as `response_cuts_db`
  std::optional<double> work;  ///< seconds of one core for a second of stereo at its rate, here and now; none: it has
                               ///< more than two channels
};

/// The average spectrum of a master, as fine as a response of a second asks for. Throws InputError, Cancelled.
std::shared_ptr<const Spectrum> programme_spectrum(const std::filesystem::path& master, const Job& job = {});

/// `programme`: what is enough is enough for that; nullptr: for white noise. Throws InputError, Cancelled.
ResponseStudy study_response_file(const std::filesystem::path& file, const Spectrum* programme = nullptr,
                                  const Job& job = {});

/// Flat, for CSV.
Json response_json(const std::filesystem::path& file, const ResponseStudy& study);

}  // namespace heathmist
