#pragma once

#include <QDialog>
#include <functional>
#include <vector>

class QLineEdit;
class QListWidget;

namespace gristle::app {

/// A place or command that can be gone to.
struct Destination {
    QString name;
    std::function<void()> go;
};

/// Ctrl+J: type a few letters, Enter goes there.
class GoToDialog : public QDialog {
    Q_OBJECT
public:
    GoToDialog(std::vector<Destination> destinations, QWidget* parent);

private:
    void filter(const QString& text);
    void goTo();
    std::vector<Destination> destinations_;
    QLineEdit* line_;
    QListWidget* list_;
};

} // namespace gristle::app
