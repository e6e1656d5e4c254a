#include "app/shell/go_to_dialog.h"

#include <QLineEdit>
#include <QListWidget>
#include <QShortcut>
#include <QVBoxLayout>

namespace gristle::app {

GoToDialog::GoToDialog(std::vector<Destination> destinations, QWidget* parent)
    : QDialog(parent), destinations_(std::move(destinations))
{
    setObjectName("goToDialog");
    setWindowTitle(tr("Go to"));
    resize(520, 420);
    auto* column = new QVBoxLayout(this);
    line_ = new QLineEdit(this);
    line_->setObjectName("goToLine");
    line_->setAccessibleName(tr("Where to"));
    line_->setPlaceholderText(tr("a layer, a bench, a command"));
    list_ = new QListWidget(this);
    list_->setObjectName("goToList");
    list_->setAccessibleName(tr("Places"));
    column->addWidget(line_);
    column->addWidget(list_);
    connect(line_, &QLineEdit::textChanged, this, &GoToDialog::filter);
    connect(line_, &QLineEdit::returnPressed, this, &GoToDialog::goTo);
    connect(list_, &QListWidget::itemActivated, this, &GoToDialog::goTo);
    connect(new QShortcut(Qt::Key_Down, line_), &QShortcut::activated, this,
            [this] { list_->setCurrentRow(std::min(list_->currentRow() + 1, list_->count() - 1)); });
    connect(new QShortcut(Qt::Key_Up, line_), &QShortcut::activated, this,
            [this] { list_->setCurrentRow(std::max(0, list_->currentRow() - 1)); });
    filter({});
}

void GoToDialog::filter(const QString& text)
{
    list_->clear();
    const QStringList words = text.split(' ', Qt::SkipEmptyParts);
    for (std::size_t i = 0; i < destinations_.size(); ++i) {
        const bool fits = std::ranges::all_of(
            words, [&](const QString& w) { return destinations_[i].name.contains(w, Qt::CaseInsensitive); });
        if (!fits) continue;
        auto* item = new QListWidgetItem(destinations_[i].name, list_);
        item->setData(Qt::UserRole, int(i));
    }
    list_->setCurrentRow(0);
}

void GoToDialog::goTo()
{
    const QListWidgetItem* item = list_->currentItem();
    if (!item) return;
    const auto go = destinations_[std::size_t(item->data(Qt::UserRole).toInt())].go;
    accept();
    go();
}

} // namespace gristle::app
