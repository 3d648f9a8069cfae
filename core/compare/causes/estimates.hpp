// The estimates of single causes; each stands in the file of its name.
#pragma once
#include "core/compare/causes/cause.hpp"

namespace heathmist::causes {

std::optional<Found> estimate_mute(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_fade(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_gain_step(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_gain_ride(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_mixing(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_filter(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_echo(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_clip(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_curve(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_dynamics(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_wow(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_dc(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_lines(const Excerpt& excerpt, const Planar& model);
std::optional<Found> estimate_clicks(const Excerpt& excerpt, const Planar& model);

}  // namespace heathmist::causes
