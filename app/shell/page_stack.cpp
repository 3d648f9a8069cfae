#include "app/shell/page_stack.hpp"

#include <QPushButton>

namespace heathmist::app {

PageStack::PageStack(PageContext& context, QWidget* parent) : QStackedWidget(parent) {
  for (const Page& page : pages()) {
    made_.push_back(page.make(context, this));
    if (indexOf(made_.back().widget) < 0) addWidget(made_.back().widget);
    for (auto* button : made_.back().widget->findChildren<QPushButton*>())
      button->setAutoDefault(true);  // Enter presses it where it has the focus: the space bar plays
  }
  const auto tell = [this](std::function<void()> MadePage::*what) {
    return [this, what] {
      for (const MadePage& page : made_)
        if (page.*what) (page.*what)();
    };
  };
  connect(&context.workspace, &Workspace::selection_changed, this, tell(&MadePage::selection));
  connect(&context.workspace, &Workspace::band_changed, this, tell(&MadePage::band));
}

bool PageStack::show_page(const std::string& key) {
  for (size_t n = 0; n < made_.size(); ++n) {
    if (pages()[n].key != key) continue;
    if (n != current_ && made_[current_].left) made_[current_].left();
    current_ = n;
    setCurrentWidget(made_[n].widget);
    refresh();
    emit changed();
    focus_first();
    return true;
  }
  return false;
}

void PageStack::focus_first() {
  QWidget* first = made_[current_].first ? made_[current_].first() : made_[current_].widget;
  if (first) first->setFocus();
}

std::vector<Command> PageStack::commands() {
  std::vector<Command> all;
  for (const Page& page : pages())
    all.push_back({QString("%1: %2").arg(page.title, page.hint),
                   MenuKind::view,
                   [this, key = page.key] { show_page(key); },
                   {page.shortcut},
                   {},
                   tr(title_of(page.group))});
  for (const MadePage& page : made_) all.insert(all.end(), page.commands.begin(), page.commands.end());
  return all;
}

std::vector<Findable> PageStack::findable() const {
  std::vector<Findable> all;
  for (const MadePage& page : made_)
    if (page.findable) {
      auto own = page.findable();
      std::move(own.begin(), own.end(), std::back_inserter(all));
    }
  return all;
}

void PageStack::refresh() {
  if (made_[current_].shown) made_[current_].shown();
}

void PageStack::tell_trial() {
  for (const MadePage& page : made_)
    if (page.trial) page.trial();
}

void PageStack::tell_playhead(double at_s) {
  for (const MadePage& page : made_)
    if (page.playhead) page.playhead(at_s);
}

void PageStack::tell_file_changed(const std::filesystem::path& file) {
  for (const MadePage& page : made_)
    if (page.file_changed) page.file_changed(file);
  refresh();
}

void PageStack::show_evidence(const Finding& finding) {
  for (size_t n = 0; n < made_.size(); ++n)
    if (made_[n].evidence) {
      if (n != current_) show_page(pages()[n].key);
      return made_[n].evidence(finding);
    }
}

void PageStack::keep_settings(BenchModel& model) const {
  for (const MadePage& page : made_)
    if (page.settings) model.set_setting(page.settings_key, page.settings());
}

void PageStack::restore_settings(const nlohmann::ordered_json& settings) {
  for (const MadePage& page : made_) {
    if (!page.restore) continue;
    const auto at = settings.find(page.settings_key);
    page.restore(at != settings.end() && at->is_object() ? *at : nlohmann::ordered_json::object());
  }
}

}  // namespace heathmist::app
