// The window: bench name and views on top, ledger, view and findings side by side, the listening bar below.
#pragma once
#include <QMainWindow>
#include <QSplitter>

#include "app/model/desk.hpp"
#include "app/views/ceiling/ceiling_view.hpp"
#include "app/views/matrix/matrix_view.hpp"
#include "app/views/null/null_view.hpp"
#include "app/views/trials/trials_view.hpp"
#include "app/window/findings_panel.hpp"
#include "app/window/ledger.hpp"
#include "app/window/listening_bar.hpp"

namespace heathmist::app {

class MainWindow : public QMainWindow {
  Q_OBJECT

 public:
  explicit MainWindow(std::unique_ptr<OutputDevice> device);
  ~MainWindow() override;

  /// Opens benches and adds audio files, as given on the command line or dropped.
  void take_files(const QStringList& files);
  Desk& desk() { return desk_; }
  NullView* null_view() const { return view_; }
  TrialsView* trials_view() const { return trials_; }
  MatrixView* matrix_view() const { return matrix_; }
  CeilingView* ceiling_view() const { return ceiling_; }
  enum View { null_page, trials_page, matrix_page, ceiling_page };
  void show_view(int view);
  Ledger* ledger() const { return ledger_; }
  FindingsPanel* findings() const { return findings_; }
  ListeningBar* listening() const { return listening_; }
  Player& player() { return player_; }
  void set_night(bool night);
  bool save_to(const QString& file);
  /// Offers what an interrupted run left behind.
  void offer_recovery();

 protected:
  void closeEvent(QCloseEvent* event) override;
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;

 private:
  QWidget* make_top();
  void make_actions();
  QAction* add(const QString& title, const QList<QKeySequence>& keys, const std::function<void()>& run);
  void connect_all();
  void refresh_title();
  void choose_floor();
  void keep_settings();
  void restore_settings();
  void show_result(const std::shared_ptr<const TrialResult>& result);
  void show_empty();
  void row_menu(const std::string& id, const QPoint& at);
  void rename(const std::string& id);
  void point_anew(const std::string& id);
  void open_bench(const QString& file);
  bool may_let_go();
  void choose_files();
  void choose_bench();
  bool save(bool elsewhere);
  void find_anything();
  QStringList recent() const;
  void remember(const QString& file);
  void fill_menu();
  // chain_doings.cpp
  void make_chain_actions();
  void connect_chains();
  void refresh_subjects();  ///< what matrix and ceiling are run on
  void refresh_chain();
  void take_wish(ChainStrip::Wish wish);
  void keep_chain();
  void read_chain();
  void write_chain();
  void write_return();
  void open_cell(const MatrixRow& row, const Chain& chain);

  Desk desk_;
  Player player_;
  QToolButton *bench_button_, *search_;
  QLabel* logo_;
  QMenu* menu_;
  QSplitter* columns_;
  Ledger* ledger_;
  NullView* view_;
  TrialsView* trials_;
  MatrixView* matrix_;
  CeilingView* ceiling_;
  Task writing_;
  QStackedWidget* views_;
  QButtonGroup* tabs_;
  FindingsPanel* findings_;
  ListeningBar* listening_;
  QWidget* top_;
};

}  // namespace heathmist::app
