// Marks of the master that is looked at: put where the music is, gone to, reworded, taken away, brought out.
#pragma once
#include "app/pages/page.hpp"
#include "app/pages/writing.hpp"
#include "app/widgets/marks_panel.hpp"
#include "core/audio/atomic_file.hpp"

namespace heathmist::app {

class MarksController : public QObject {
  Q_OBJECT

 public:
  MarksController(PageContext& context, MarksPanel* panel, QObject* parent);
  std::vector<Command> commands();
  /// A mark of the selection, or of the spot that is heard. Empty words: none.
  void put(const QString& words) { put(words, here()); }
  void go_to(const std::string& id);
  void reword(const std::string& id, const QString& words);
  void remove(const std::string& id);
  void refresh();
  /// Off the interface thread.
  void write_cues(const Destination& to);
  bool is_writing() const { return writing_.is_running(); }

 signals:
  void written(bool whole);

 private:
  const Master* master() const;
  Mark here() const;  ///< without words
  void put(const QString& words, Mark mark);
  void ask();
  void ask_words(const std::string& id);
  void step(bool forward);
  void ask_where_cues_go();
  void change(const QString& what, const std::function<void(Master&)>& how);
  PageContext& context_;
  Workspace& workspace_;
  MarksPanel* panel_;
  Writing writing_;
};

}  // namespace heathmist::app
