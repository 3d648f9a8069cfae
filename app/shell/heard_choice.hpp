// What is heard in the return's place, sighted: another trial of the master, or another master of the bench, at the
// same spot and equally loud.
#pragma once
#include <QMenu>

#include "app/model/long_work.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

class HeardChoice : public QObject {
  Q_OBJECT

 public:
  static constexpr int most = 9;  ///< trials that have a key

  HeardChoice(PageContext& context, QObject* parent);
  std::vector<Command> commands();
  void hear_trial(size_t number);  ///< of the master that is looked at, from 0 on
  void hear_master(const std::string& id);
  void hear_own();  ///< the return that is looked at
  bool is_making() const { return making_.is_running(); }

 signals:
  void rested();  ///< another master is heard, or is not

 private:
  struct Brought {
    std::shared_ptr<const OtherSound> sound;
    std::shared_ptr<const Clip> master;  ///< at whose level it is
    std::optional<double> whole_db, loop_db;
    std::optional<std::pair<double, double>> loop;
  };
  const Master* master() const;
  void fill(QMenu* menu);
  void let_go();
  void hear(const std::string& id, const QString& name, std::shared_ptr<const OtherSound> sound,
            std::function<std::optional<double>(MatchBy, const std::optional<std::pair<double, double>>&)> match_db);
  void take_result(const std::string& id);
  void take_bench();
  void match_loop();
  void forget(const QString& file);
  PageContext& context_;
  Workspace& workspace_;
  QMenu menu_;
  LongWork making_;
  std::shared_ptr<const OtherSound> sound_;
  std::shared_ptr<Brought> brought_;  // the other master that is heard; none: none is
  std::string heard_;                 // id of what is heard in the return's place; empty: the return itself is
  std::string wanted_;                // trial that is measured to be heard; empty: none
  std::filesystem::path file_;        // of what is heard in the return's place
};

}  // namespace heathmist::app
