// The pages of the window, made from their registry: which one is seen, and what each is told.
#pragma once
#include <QStackedWidget>

#include "app/pages/page.hpp"

namespace heathmist::app {

class PageStack : public QStackedWidget {
  Q_OBJECT

 public:
  PageStack(PageContext& context, QWidget* parent);
  /// False: there is no page of that key.
  bool show_page(const std::string& key);
  const Page& current() const { return pages()[current_]; }
  bool shows_findings() const { return bool(made_[current_].evidence); }
  bool takes_ledgers_place() const { return made_[current_].in_place_of_ledger; }
  /// One command to go to each page, and all that the pages can do.
  std::vector<Command> commands();
  std::vector<Findable> findable() const;

  /// The one that is seen looks at the bench again.
  void refresh();
  void tell_trial();
  void tell_playhead(double at_s);
  void tell_file_changed(const std::filesystem::path& file);
  /// Goes to the first page that can show a finding.
  void show_evidence(const Finding& finding);
  /// How the pages are set up, kept with the bench.
  void keep_settings(BenchModel& model) const;
  void restore_settings(const nlohmann::ordered_json& settings);

 signals:
  void changed();  ///< another page is seen

 private:
  void focus_first();
  std::vector<MadePage> made_;  // as in pages()
  size_t current_ = 0;
};

}  // namespace heathmist::app
