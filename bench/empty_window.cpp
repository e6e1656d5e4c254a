// An empty window, painted once: the bound for the start of the application.
#include <QApplication>
#include <QTimer>
#include <QWidget>

class Empty : public QWidget {
protected:
    void paintEvent(QPaintEvent*) override { QTimer::singleShot(0, qApp, &QApplication::quit); }
};

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Empty window;
    window.resize(1280, 800);
    window.show();
    return QApplication::exec();
}
