// The window: bench name and views on top, ledger, view and findings side by side, the listening bar below.
#pragma once
#include <QMainWindow>
#include <QProgressDialog>
#include <QSplitter>

#include "app/model/desk.hpp"
#include "app/model/loudness_board.hpp"
#include "app/views/ceiling/ceiling_view.hpp"
#include "app/views/converters/conversions_view.hpp"
#include "app/views/loudness/loudness_view.hpp"
#include "app/views/matrix/matrix_view.hpp"
#include "app/views/null/null_view.hpp"
#include "app/views/outlets/outlets_view.hpp"
#include "app/views/spectrum/spectrum_view.hpp"
#include "app/views/trials/trials_view.hpp"
#include "app/widgets/notice.hpp"
#include "app/window/findings_panel.hpp"
#include "app/window/ledger.hpp"
#include "app/window/listening_bar.hpp"
#include "core/bench/levelled.hpp"

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
  LoudnessView* loudness_view() const { return loudness_; }
  OutletsView* outlets_view() const { return outlets_; }
  SpectrumView* spectrum_view() const { return spectrum_; }
  ConvertersView* converters_view() const { return converters_; }
  ConversionsView* conversions_view() const { return conversions_; }
  LoudnessBoard& board() { return board_; }
  enum View {
    null_page,
    trials_page,
    matrix_page,
    ceiling_page,
    loudness_page,
    outlets_page,
    spectrum_page,
    converters_page
  };
  void show_view(int view);
  Ledger* ledger() const { return ledger_; }
  FindingsPanel* findings() const { return findings_; }
  ListeningBar* listening() const { return listening_; }
  Player& player() { return player_; }
  void set_night(bool night);
  bool save_to(const QString& file);
  /// Offers what earlier runs left behind that did not end orderly.
  void offer_recovery();
  /// Lets a stage do what it would, on this machine: somebody has seen the whole of it and said so.
  void arm_stage(const Stage& stage);
  /// Writes the return of the trial that is looked at, off the interface thread.
  void write_return_to(const Destination& to);
  bool is_writing_return() const { return exporting_.is_running(); }
  void open_cell(const MatrixRow& row, const Chain& chain);
  Notice* notice() const { return notice_; }
  /// Copies of the masters that are chosen in the loudness table (none: of all), off the interface thread.
  /// `replace`: copies that are there already may go.
  void write_copies(const LevelPlan& plan, bool as_album, const QString& folder, bool replace = false);
  void set_quiet(bool quiet) { quiet_ = quiet; }  ///< no dialogs while copies are written, and none after

 signals:
  void copies_written(bool whole, const QString& report);
  void return_written(bool whole);

 protected:
  void closeEvent(QCloseEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;

 private:
  QWidget* make_top();
  void fit_top();
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
  void rename_kept_chain(const Chain& kept);
  void read_chain();
  void write_chain();
  void write_return();
  // spectrum_doings.cpp
  void make_spectrum_actions();
  void connect_spectrum();
  void refresh_spectrum();
  void hear_fade(const WordCut& cut);
  void hear_trial_again();  ///< after a fade
  void show_conversions(int part);
  // loudness_doings.cpp
  void make_loudness_actions();
  void connect_loudness();
  void refresh_loudness();
  void ask_for_copies();
  void hear_chosen();
  void choose_album();
  std::vector<std::string> masters_for_copies() const;
  std::vector<std::filesystem::path> names_of_copies(const LevelPlan& plan, const QString& folder) const;
  int copies_there(const LevelPlan& plan, const QString& folder) const;  ///< how many of these files exist

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
  LoudnessBoard board_;
  LoudnessView* loudness_;
  OutletsView* outlets_;
  SpectrumView* spectrum_;
  ConversionsView* conversions_;
  ConvertersView* converters_;
  Task fading_;
  bool fade_is_heard_ = false;
  Task copying_;
  QProgressDialog* copies_progress_ = nullptr;
  QString copies_report_;
  bool quiet_ = false;
  Task exporting_, probe_writing_;
  QProgressDialog* export_progress_ = nullptr;
  std::function<void()> after_probe_;  // what waits for the probe's file
  Notice* notice_;
  QStackedWidget* views_;
  QButtonGroup* tabs_;
  FindingsPanel* findings_;
  ListeningBar* listening_;
  QWidget* top_;
};

}  // namespace heathmist::app
