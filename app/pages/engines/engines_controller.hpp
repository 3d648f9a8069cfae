// What is done with engines: added, asked, given a probe, their renders brought in; each a step that can be undone.
#pragma once
#include "app/pages/engines/engines_view.hpp"
#include "app/pages/page.hpp"
#include "app/pages/writing.hpp"

namespace heathmist::app {

class EnginesController : public QObject {
  Q_OBJECT

 public:
  EnginesController(PageContext& context, EnginesView* view);
  void add_stand_in(const std::string& key, bool and_ask);
  void add_own(const QString& name);
  void ask(const std::string& kind);  ///< the stand-in that is chosen
  void ask_everything();              ///< every kind that it was not asked yet
  /// `control`: what was moved, where an engine has more than one for it.
  void bring_in(const QString& file, const std::string& control = {});
  void remove(const std::string& engine_id);
  void rename(const std::string& engine_id, const QString& name);
  void write_probe(const Destination& to);
  void write_score(const Destination& to);
  void save_csv();
  void choose_render(const std::string& control = {});
  void choose_probe_file();
  void choose_score_file();
  void add_menu(const QPoint& at);
  bool is_writing() const { return writing_.is_running(); }

 private:
  void engine_menu(const std::string& engine_id, const QPoint& at);
  void ask_name();
  TestedEngine* edited(Bench& bench) const;
  PageContext& context_;
  EnginesView* view_;
  Writing writing_;
  QString written_;
};

}  // namespace heathmist::app
