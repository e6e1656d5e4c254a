#pragma once

#include <QApplication>
#include <functional>

namespace gristle::app {

/// The application with a floor under it: what is thrown on its way through an event becomes a message, and the
/// session stays open.
class Application : public QApplication {
    Q_OBJECT
public:
    using QApplication::QApplication;
    bool notify(QObject* receiver, QEvent* event) override;
    std::function<void(const QString& what)> whenThrown; ///< told what was thrown
};

} // namespace gristle::app
