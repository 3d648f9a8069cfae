// What is done with a return that is a file of its own: the master is written on its clock, or into its video; and of a
// file that holds several sounds another one is looked at.
#pragma once
#include "app/pages/page.hpp"
#include "app/pages/writing.hpp"
#include "core/audio/sound_name.hpp"
#include "core/delivery/aligned.hpp"

namespace heathmist::app {

class AlignController : public QObject {
  Q_OBJECT

 public:
  AlignController(PageContext& context, QObject* parent);
  std::vector<Command> commands();
  /// Of the trial that is looked at.
  void write(const Destination& to);
  void write_video(const Destination& to);
  /// Looks which sounds the file of the row holds, and asks for one of them.
  void ask_for_sound();

 signals:
  void rested(const QString& sentence);

 private:
  bool is_file_trial() const;
  std::string row_with_file() const;  ///< the master or trial that is looked at; empty: it has no file
  std::filesystem::path file_of_row() const;
  void run(const QString& what, const std::function<QString(std::shared_ptr<const Clip> master,
                                                            std::shared_ptr<const Clip> ret, const Job& job)>& work);
  void choose_sound(const std::string& row, const std::filesystem::path& file, const std::vector<SoundInFile>& sounds);
  PageContext& context_;
  Writing writing_;
  LongWork looking_;
  QString told_;
};

/// "2: Finnish, Narrator, aac, 2 channels, 48 kHz".
QString label_of(const SoundInFile& sound);

}  // namespace heathmist::app
