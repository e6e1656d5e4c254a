#include "app/shell/application.h"
#include "app/shell/main_window.h"
#include "app/shell/tour.h"
#include "app/theme/theme.h"

#include <QApplication>
#include <QCommandLineParser>
#include <QTemporaryDir>
#include <QTextStream>
#include <QTimer>

int main(int argc, char** argv)
{
    using namespace gristle::app;
    Application application(argc, argv);
    QApplication::setApplicationName("Gristle");
    QApplication::setOrganizationName("gristle");
    QGuiApplication::setDesktopFileName("gristle");
    QApplication::setApplicationVersion(GRISTLE_VERSION);
    QCommandLineParser parser;
    parser.setApplicationDescription(QObject::tr("Records, measures and blends electric guitar."));
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument("PATH", QObject::tr("A session folder, or audio files to bring in"), "[PATH...]");
    const QCommandLineOption tourOption(
        "tour", QObject::tr("Leave a picture of each bench, the mix and the recall sheet in a folder, then end"),
        "DIR");
    const QCommandLineOption lampOption("lamp-off", QObject::tr("Start with the dark theme"));
    const QCommandLineOption paintedOption("until-painted",
                                           QObject::tr("End when the first bench is painted (for timing)"));
    parser.addOptions({tourOption, lampOption, paintedOption});
    parser.process(application);
    Theme::instance().install(application);
    if (parser.isSet(lampOption)) Theme::instance().setLamp(Lamp::Off);
    QTemporaryDir ofTheTour; // the person's own gain book and recent sessions are left alone
    if (parser.isSet(tourOption)) qputenv("GRISTLE_HOME", ofTheTour.path().toUtf8());
    MainWindow window;
    application.whenThrown = [&window](const QString& what) {
        window.tell(
            QObject::tr("Something in Gristle went wrong (%1), and the step was given up").arg(what),
            QObject::tr(
                "all that you had done before is kept; close the session and open it again if something looks odd"));
    };
    if (!parser.isSet(tourOption)) window.restorePlace();
    window.show();
    window.openPaths(parser.positionalArguments());
    if (parser.isSet(paintedOption)) {
        window.repaint();
        QTimer::singleShot(0, &application, &QApplication::quit);
    }
    if (parser.isSet(tourOption)) {
        if (!window.session().isOpen()) {
            QTextStream(stderr) << "gristle: "
                                << (window.notice().isEmpty() ? QStringLiteral("no session was named")
                                                              : window.notice())
                                << "\n";
            return 3;
        }
        auto* tour = new Tour(window, parser.value(tourOption));
        QObject::connect(tour, &Tour::finished, &application, [](bool good) { QApplication::exit(good ? 0 : 4); });
        tour->start();
    }
    return QApplication::exec();
}
