// What every outlet makes of every master: what it asks of the file, what its player does, what is heard in the end.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/loudness_readings.hpp"
#include "app/pages/outlets/level_line.hpp"
#include "app/pages/outlets/listeners_row.hpp"
#include "app/widgets/result_table.hpp"
#include "core/delivery/outlet.hpp"

namespace heathmist::app {

class OutletsView : public QWidget {
  Q_OBJECT

 public:
  enum Column {
    master_column,
    group_column,
    outlet_column,
    line_column,
    file_column,
    gain_column,
    heard_column,
    peak_column,
    verdict_column
  };

  OutletsView(Queue& queue, LoudnessReadings& measured, QWidget* parent = nullptr);
  void show_bench(const Bench& bench);
  /// Shows the master of the trial that is looked at, once for each master.
  void follow(const std::string& master_id);
  /// Chooses the row of an outlet, of the master that is shown.
  void go_to(const std::string& key);
  const std::vector<Outlet>& outlets() const { return outlets_; }
  ResultTable* table() const { return table_; }
  QComboBox* master() const { return master_; }
  QComboBox* outlet() const { return outlet_; }
  QCheckBox* album() const { return album_; }
  ListenersRow* listeners() const { return listeners_; }
  QString headline() const { return headline_->text(); }
  QString file_words() const { return file_words_->text(); }
  QString player_words() const { return player_words_->text(); }
  void reload();       ///< reads the outlets again
  void run_encodes();  ///< sends what is shown through the encodes of its outlets
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }
  QString csv() const;

 signals:
  void rested();

 protected:
  void showEvent(QShowEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  struct Line {
    std::string master_id;
    QString master;
    std::filesystem::path file;
    Outlet outlet;
    Delivery delivery;
    std::shared_ptr<const Measured> own, encoded;
    QString failure;
  };
  QWidget* make_head();
  void make_table();
  void fill();
  void show_columns();
  Cell verdict_of(const Line& line) const;
  LevelLine line_of(const Line& line) const;
  void say();
  void say_all();
  void say_album();
  void edit(bool fresh);
  void drop();
  void save_csv();
  /// Of the album a master belongs to; none where albums do not count. Worked out once for each album.
  std::shared_ptr<const AlbumLevels> album_of_master(const Master& master);
  std::map<std::string, std::shared_ptr<const AlbumLevels>> albums_;  // by name; of what is measured by now
  const Outlet* chosen_outlet() const;
  LoudnessReadings& measured_;
  Bench bench_;
  std::string followed_;
  std::vector<Outlet> outlets_;
  std::vector<Line> lines_;
  std::map<std::pair<std::string, std::string>, std::shared_ptr<const Measured>> encoded_;  // by master and outlet
  std::map<std::pair<std::string, std::string>, QString> failures_;
  LongWork work_;
  bool stale_ = false;  ///< numbers came while it was hidden
  QComboBox *master_, *outlet_;
  QCheckBox *album_, *live_;
  QPushButton* run_;
  QLabel *headline_, *note_, *file_words_, *player_words_;
  ResultTable* table_;
  ListenersRow* listeners_;
};

}  // namespace heathmist::app
