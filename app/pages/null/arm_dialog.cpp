#include "app/pages/null/arm_dialog.hpp"

#include <QDialogButtonBox>
#include <QFontDatabase>
#include <QLabel>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "core/printable.hpp"

namespace heathmist::app {

namespace {

QString headline_of(Capability capability) {
  switch (capability) {
    case Capability::run_program:
      return QObject::tr("This stage runs a program");
    case Capability::load_plugin:
      return QObject::tr("This stage loads a plug-in");
    case Capability::write_file:
      return QObject::tr("This stage keeps a file");
  }
  return {};
}

QString meaning_of(Capability capability) {
  if (capability == Capability::write_file)
    return QObject::tr(
        "Armed, encoded files are kept in this folder from now on. A file that is there already is never replaced.");
  return QObject::tr(
      "Armed, it runs with all your rights each time its chain is made, on this machine, with exactly these values. "
      "Arm it "
      "only if you know what it does.");
}

}  // namespace

ArmDialog::ArmDialog(const Stage& stage, QWidget* parent) : QDialog(parent) {
  const auto capability = capability_of(stage).value_or(Capability::run_program);
  setWindowTitle(tr("Arm a stage"));
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(20, 18, 20, 16);
  rows->setSpacing(10);
  auto* head = new QLabel(headline_of(capability), this);
  head->setFont(face(Type::headline, true));
  rows->addWidget(head);
  auto* deed = new QPlainTextEdit(QString::fromStdString(printable(deed_of(stage))), this);
  deed->setReadOnly(true);
  deed->setWordWrapMode(QTextOption::WrapAnywhere);  // the whole of it: nothing lies behind an edge
  deed->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  deed->setStyleSheet(
      QString("QPlainTextEdit { background: transparent; font-family: '%1'; border: 1px solid %2; border-radius: 4px; "
              "padding: 4px; }")
          .arg(QFontDatabase::systemFont(QFontDatabase::FixedFont).family(), colour(Role::rule).name()));
  deed->setAccessibleName(tr("What it would do"));
  deed->setMinimumWidth(560);
  deed->setFixedHeight(96);
  rows->addWidget(deed);
  auto* meaning = new QLabel(meaning_of(capability), this);
  meaning->setWordWrap(true);
  rows->addWidget(meaning);
  auto* buttons = new QDialogButtonBox(this);
  auto* leave = buttons->addButton(tr("Leave it disarmed"), QDialogButtonBox::RejectRole);
  auto* arm = buttons->addButton(tr("Arm it on this machine"), QDialogButtonBox::AcceptRole);
  arm->setObjectName("arm");
  arm->setAutoDefault(false);
  leave->setDefault(true);
  connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
  connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
  rows->addWidget(buttons);
  leave->setFocus();
}

}  // namespace heathmist::app
