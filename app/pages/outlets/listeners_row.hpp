// What listeners get of the chosen row: its qualities as trials, and a file that was brought back from there.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "core/delivery/listeners.hpp"

namespace heathmist::app {

class ListenersRow : public QWidget {
  Q_OBJECT

 public:
  struct Subject {
    std::string master_id;
    std::filesystem::path file;
    Outlet outlet;
    double player_gain_db = 0;
    bool operator==(const Subject&) const = default;
  };
  ListenersRow(Queue& queue, QWidget* parent);
  /// Of another subject nothing that was said stands.
  void set_subject(const std::optional<Subject>& subject);
  void forget(const std::filesystem::path& file);  ///< where anything was said of it
  void lay_beside(const std::filesystem::path& brought);
  void make_trials();
  QString words() const { return words_->text(); }
  bool is_running() const { return work_.is_running(); }

 signals:
  void trials_wanted(const std::string& master_id, const std::vector<heathmist::Chain>& chains);
  void brought(const std::filesystem::path& master, const std::filesystem::path& file);
  void rested();

 private:
  void say();
  std::optional<Subject> subject_;
  std::filesystem::path brought_;  // what stands here is of it
  QString verdict_;
  LongWork work_;
  QLabel* words_;
  QPushButton *trials_, *beside_;
};

}  // namespace heathmist::app
