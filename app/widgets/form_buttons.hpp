// The last row of a form: what it is for, filled, and Cancel beside it.
#pragma once
#include <QDialog>
#include <QDialogButtonBox>
#include <QPushButton>

namespace heathmist::app {

struct FormButtons {
  QDialogButtonBox* box = nullptr;
  QPushButton* main = nullptr;
};

/// `main` accepts the form, also by Enter; Cancel and Escape leave it.
inline FormButtons form_buttons(QDialog* form, const QString& main) {
  FormButtons buttons{new QDialogButtonBox(QDialogButtonBox::Cancel, form), new QPushButton(main)};
  buttons.main->setProperty("main", true);  // before it is dressed
  buttons.box->addButton(buttons.main, QDialogButtonBox::AcceptRole);
  buttons.main->setDefault(true);
  QObject::connect(buttons.box, &QDialogButtonBox::accepted, form, &QDialog::accept);
  QObject::connect(buttons.box, &QDialogButtonBox::rejected, form, &QDialog::reject);
  return buttons;
}

}  // namespace heathmist::app
