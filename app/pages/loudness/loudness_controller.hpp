// What is done from the Loudness page: two clips heard against each other, albums, levelled copies.
#pragma once
#include "app/pages/loudness/loudness_view.hpp"
#include "app/pages/page.hpp"
#include "app/pages/writing.hpp"
#include "core/delivery/levelled.hpp"

namespace heathmist::app {

class LoudnessController : public QObject {
  Q_OBJECT

 public:
  LoudnessController(PageContext& context, LoudnessView* view);
  std::vector<Command> commands();
  /// Copies of the masters that are chosen in the loudness table (none: of all), off the interface thread.
  /// `replace`: copies that are there already may go.
  void write_copies(const LevelPlan& plan, bool as_album, const QString& folder, bool replace = false);

 signals:
  void copies_written(bool whole, const QString& report);

 private:
  /// A copy to be made: of what, and where to.
  struct Order {
    std::string name;
    std::filesystem::path file;
    Destination to;
  };
  void ask_for_copies();
  void hear_chosen();
  void choose_album();
  void end_copying(Outcome outcome, const QString& failure);
  std::vector<std::string> masters_for_copies() const;
  std::vector<std::filesystem::path> names_of_copies(const LevelPlan& plan, const QString& folder) const;
  int copies_there(const LevelPlan& plan, const QString& folder) const;  ///< how many of these files exist
  static QString write_orders(const std::vector<Order>& orders, const LevelPlan& plan, bool as_album, const Job& job);
  PageContext& context_;
  Workspace& workspace_;
  LoudnessView* view_;
  Writing copying_;
  QString report_;
};

}  // namespace heathmist::app
