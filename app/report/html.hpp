// A report as one HTML file that needs nothing beside itself: no script, no picture, no font from elsewhere.
#pragma once
#include <string>

#include "core/bench/report_content.hpp"

namespace heathmist::app {

/// HTML 5, UTF-8; plots are inline SVG whose texts can be searched. Printed, a master begins a page.
std::string report_html(const Report& report);

}  // namespace heathmist::app
