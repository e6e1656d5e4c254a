#include "app/shell/application.h"

#include <new>

namespace gristle::app {

bool Application::notify(QObject* receiver, QEvent* event)
{
    QString what;
    try {
        return QApplication::notify(receiver, event);
    } catch (const std::bad_alloc&) {
        what = tr("there is not enough memory");
    } catch (const std::exception& thrown) {
        what = QString::fromUtf8(thrown.what());
    } catch (...) {
        what = tr("of an unknown kind");
    }
    if (whenThrown) whenThrown(what);
    return true;
}

} // namespace gristle::app
