// A page is one folder beside this file, and a line in each of these two lists.
#include <QObject>

#include "app/pages/page.hpp"

namespace heathmist::app {

Page null_page();
Page trials_page();
Page two_trials_page();
Page pairs_page();
Page matrix_page();
Page deliverables_page();
Page ceiling_page();
Page crossfade_page();
Page loudness_page();
Page outlets_page();
Page sheet_page();
Page ways_page();
Page lines_page();
Page over_time_page();
Page converters_page();
Page aliasing_page();
Page word_lengths_page();
Page engines_page();
Page responses_page();
Page blind_page();
Page capture_page();
Page monitor_page();
Page report_page();

const std::vector<Page>& pages() {
  static const std::vector<Page> all{
      null_page(),         trials_page(),    two_trials_page(), pairs_page(),    matrix_page(),       ceiling_page(),
      deliverables_page(), crossfade_page(), loudness_page(),   outlets_page(),  sheet_page(),        ways_page(),
      lines_page(),        over_time_page(), converters_page(), aliasing_page(), word_lengths_page(), engines_page(),
      responses_page(),    blind_page(),     capture_page(),    monitor_page(),  report_page()};
  return all;
}

const char* title_of(PageGroup group) {
  static constexpr const char* titles[] = {QT_TR_NOOP("Compare"),  QT_TR_NOOP("Make"),   QT_TR_NOOP("Levels"),
                                           QT_TR_NOOP("Spectrum"), QT_TR_NOOP("Probes"), QT_TR_NOOP("Listening"),
                                           QT_TR_NOOP("Report")};
  return titles[int(group)];
}

}  // namespace heathmist::app
