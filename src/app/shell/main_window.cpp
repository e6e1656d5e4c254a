#include "app/shell/main_window.h"

#include "app/benches/blend/blend_bench.h"
#include "app/benches/double/double_bench.h"
#include "app/benches/log/log_bench.h"
#include "app/benches/take/take_bench.h"
#include "app/models/preferences.h"
#include "app/shell/audition_bar.h"
#include "app/shell/bench_list.h"
#include "app/shell/exporter.h"
#include "app/shell/go_to_dialog.h"
#include "app/shell/header.h"
#include "app/shell/import_dialog.h"
#include "app/shell/song_dialog.h"
#include "app/shell/spine.h"
#include "app/shell/start_page.h"
#include "app/theme/theme.h"
#include "app/widgets/page_stack.h"
#include "core/audio/file_place.h"
#include "core/demo_session/demo_session.h"

#include <QApplication>
#include <QDir>
#include <QDragEnterEvent>
#include <QFileInfo>
#include <QKeyEvent>
#include <QLabel>
#include <QMenu>
#include <QMimeData>
#include <QPrintDialog>
#include <QPrinter>
#include <QPushButton>
#include <QScreen>
#include <QShortcut>
#include <QStackedWidget>
#include <QTextDocument>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

MainWindow::MainWindow(QWidget* parent) : QMainWindow(parent), dialogs_(realDialogs(this))
{
    setWindowTitle(tr("Gristle"));
    setObjectName("mainWindow");
    setMinimumSize(1024, 660); // of what is left of a screen of 1024 x 700 beside a frame
    resize(1280, 800);
    setAcceptDrops(true);
    build();
    fillSessionMenu();
    addKeys();
    wire();
    qApp->installEventFilter(this);
    refreshPage();
    stack_->setFocus();
}

MainWindow::~MainWindow()
{
    qApp->removeEventFilter(this);
    if (QWidget* edited = focusWidget()) edited->clearFocus(); // takes what was typed while all of the window is there
    session_.close();
}

void MainWindow::build()
{
    auto* central = new QWidget(this);
    auto* column = new QVBoxLayout(central);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    const auto line = [&](bool vertical, QWidget* in) {
        auto* f = new QFrame(in);
        vertical ? f->setFixedWidth(1) : f->setFixedHeight(1);
        f->setObjectName("rule");
        f->setProperty("rule", true);
        return f;
    };
    header_ = new Header(
        session_, [this](const QString& title, const QString& suggested) { return dialogs_.name(title, suggested); },
        central);
    column->addWidget(header_);
    column->addWidget(line(false, central));
    noticeRow_ = new QWidget(central);
    noticeRow_->setObjectName("noticeRow");
    auto* noticeLine = new QHBoxLayout(noticeRow_);
    noticeLine->setContentsMargins(0, 0, 12, 0);
    notice_ = new QLabel(noticeRow_);
    notice_->setObjectName("notice");
    notice_->setAccessibleName(tr("Notice"));
    notice_->setWordWrap(true);
    notice_->setTextFormat(Qt::PlainText);
    notice_->setMargin(9);
    notice_->setToolTip(tr("Click to close (Esc)"));
    notice_->installEventFilter(this);
    noticeLine->addWidget(notice_, 1);
    noticeAct_ = new QPushButton(noticeRow_);
    noticeAct_->setObjectName("noticeAct");
    noticeAct_->setProperty("act", true);
    connect(noticeAct_, &QPushButton::clicked, this, [this] {
        const auto act = std::exchange(act_, {});
        hideNotice();
        if (act) act();
    });
    noticeLine->addWidget(noticeAct_);
    noticeRow_->hide();
    column->addWidget(noticeRow_);
    pages_ = new PageStack(central);
    column->addWidget(pages_, 1);
    start_ = new StartPage(pages_);
    connect(start_, &StartPage::bringIn, this, [this] { bringIn(dialogs_.openAudio()); });
    connect(start_, &StartPage::openSession, this, &MainWindow::askOpenSession);
    connect(start_, &StartPage::makeSession, this, &MainWindow::askNewSession);
    connect(start_, &StartPage::openRecent, this, [this](const QString& folder) { openPaths({folder}); });
    connect(start_, &StartPage::openDemo, this, &MainWindow::openDemo);
    pages_->addWidget(start_);
    auto* work = new QWidget(pages_);
    auto* row = new QHBoxLayout(work);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    spine_ = new Spine(work);
    row->addWidget(spine_);
    stack_ = new PageStack(work);
    stack_->setFocusPolicy(Qt::ClickFocus); // takes the keys where no control has them
    benches_ = makeBenches({session_, audition_, capture_}, stack_);
    for (Bench* b : benches_) stack_->addWidget(b);
    row->addWidget(stack_, 1);
    row->addWidget(line(true, work));
    findings_ = new FindingsPanel(work);
    row->addWidget(findings_);
    pages_->addWidget(work);
    column->addWidget(line(false, central));
    bar_ = new AuditionBar(session_, audition_, central);
    column->addWidget(bar_);
    setCentralWidget(central);
    spine_->setBenches(benches_);
    exporter_ = new Exporter(session_, dialogs_, this);
    for (TaskRunner* t : {&session_.importer().task(), &session_.keeper().task(), &exporter_->task(),
                          &session_.measurements().task(), &audition_.task()})
        bar_->watch(*t);
}

void MainWindow::fillSessionMenu()
{
    QMenu* menu = header_->sessionMenu();
    const auto add = [&](const QString& text, const QKeySequence& key, auto slot) {
        QAction* action = menu->addAction(text);
        action->setShortcut(key);
        action->setShortcutVisibleInContextMenu(true);
        connect(action, &QAction::triggered, this, slot);
        addAction(action);
        return action;
    };
    add(tr("Bring takes in \u2026"), QKeySequence("Ctrl+I"), [this] { bringIn(dialogs_.openAudio()); });
    add(tr("Make a session \u2026"), QKeySequence("Ctrl+N"), [this] { askNewSession(); });
    add(tr("Open a session \u2026"), QKeySequence("Ctrl+O"), [this] { askOpenSession(); });
    add(tr("Close the session"), QKeySequence("Ctrl+W"), [this] { session_.close(); });
    menu->addSeparator();
    add(tr("Export the stereo mix \u2026"), QKeySequence("Ctrl+E"), [this] {
        exporter_->askMix();
    })->setObjectName("action.exportMix");
    add(tr("Export each layer \u2026"), QKeySequence("Ctrl+Shift+E"), [this] { exporter_->askLayers(); });
    for (const StemsBy by : {StemsBy::Bus, StemsBy::Part, StemsBy::Side, StemsBy::Layer})
        add(tr("Export the song and its stems by %1 \u2026").arg(QString::fromStdString(nameOf(by))), {}, [this, by] {
            exporter_->askStems(by);
        })->setObjectName(QStringLiteral("action.stems.%1").arg(QString::fromStdString(nameOf(by))));
    add(tr("Save the recall sheet \u2026"), QKeySequence("Ctrl+R"), [this] { emit bench<LogBench>()->saveSheet(); });
    menu->addSeparator();
    QAction* undo = session_.undoStack().createUndoAction(this, tr("Undo"));
    undo->setShortcut(QKeySequence::Undo);
    QAction* redo = session_.undoStack().createRedoAction(this, tr("Redo"));
    redo->setShortcuts({QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")});
    menu->addActions({undo, redo});
    addActions({undo, redo});
    menu->addSeparator();
    QAction* lamp = add(tr("Lamp off (dark)"), QKeySequence("Ctrl+D"), [] {
        auto& theme = Theme::instance();
        theme.setLamp(theme.lamp() == Lamp::Paper ? Lamp::Off : Lamp::Paper);
    });
    lamp->setCheckable(true);
    add(tr("Show or hide findings"), QKeySequence("Ctrl+F"),
        [this] { findings_->setVisible(!findings_->isVisible()); });
    menu->addSeparator();
    add(tr("Leave Gristle"), QKeySequence("Ctrl+Q"), [this] { close(); });
}

void MainWindow::addKeys()
{
    const auto key = [&](const QKeySequence& sequence, auto slot) {
        auto* shortcut = new QShortcut(sequence, this);
        connect(shortcut, &QShortcut::activated, this, slot);
    };
    for (std::size_t i = 0; i < benches_.size(); ++i)
        key(QKeySequence(QString::number(benches_[i]->digit())), [this, i] {
            if (session_.isOpen()) showBench(int(i));
        });
    key(Qt::Key_Space, [this] {
        if (!audition_.current().slots_.empty()) audition_.setPlaying(!audition_.isPlaying());
    });
    key(Qt::Key_X, [this] {
        const auto n = audition_.current().slots_.size();
        if (n > 1) audition_.setSlot((audition_.slot() + 1) % n);
    });
    key(Qt::Key_M, [this] {
        if (benches_[std::size_t(currentBench())]->isMonoOffered()) audition_.setMono(!audition_.isMono());
    });
    key(Qt::Key_BracketLeft, [this] { setLoopEnd(true); });
    key(Qt::Key_BracketRight, [this] { setLoopEnd(false); });
    key(QKeySequence("Ctrl+J"), [this] { goTo(); });
    key(QKeySequence("Ctrl+L"), [this] {
        if (!session_.isOpen()) return;
        showBench(int(benches_.size()) - 1);
        bench<LogBench>()->focusNote();
    });
    key(Qt::Key_Escape, [this] { hideNotice(); });
}

void MainWindow::wire()
{
    connect(header_, &Header::goTo, this, &MainWindow::goTo);
    connect(header_, &Header::editSong, this, &MainWindow::editSong);
    connect(spine_, &Spine::choose, this, [this](int index) { showBench(index); });
    connect(bar_, &AuditionBar::hear, this, [this] { audition_.setPlaying(!audition_.isPlaying()); });
    for (Bench* b : benches_) {
        connect(b, &Bench::stateChanged, &lookTimer_, qOverload<>(&QTimer::start)); // many changes, one look
        connect(b, &Bench::auditionChanged, this, [this] { auditionTimer_.start(); });
        connect(b, &Bench::failed, this, &MainWindow::tell);
    }
    connect(&session_, &SessionModel::opened, this, [this] {
        audition_.setRate(session_.document().sampleRateHz);
        refreshPage();
        const auto wanted = std::ranges::find(benches_, wantedBench_, &Bench::name);
        showBench(wanted == benches_.end() ? 0 : int(wanted - benches_.begin()));
        wantedBench_.clear();
    });
    connect(&session_, &SessionModel::closed, this, [this] {
        lookTimer_.stop();
        auditionTimer_.stop();
        audition_.clear();
        if (act_) hideNotice(); // what was offered was of the session
        findings_->show({}, {}, {});
        refreshPage();
    });
    connect(&session_, &SessionModel::offered, this, &MainWindow::offer);
    for (auto signal : {&SessionModel::pathChanged, &SessionModel::loopChanged, &SessionModel::documentChanged})
        connect(&session_, signal, this, [this] { auditionTimer_.start(); });
    connect(&session_, &SessionModel::documentChanged, this,
            [this] { audition_.setRate(session_.document().sampleRateHz); });
    connect(&session_, &SessionModel::failed, this, &MainWindow::tell);
    connect(&audition_, &Audition::failed, this, &MainWindow::tell);
    connect(&capture_, &Capture::failed, this, &MainWindow::tell);
    auditionTimer_.setSingleShot(true);
    auditionTimer_.setInterval(20);
    connect(&auditionTimer_, &QTimer::timeout, this, &MainWindow::requestAudition);
    connect(bench<DoubleBench>(), &DoubleBench::playOther, this, [this] { showBench("Take"); });
    connect(bench<DoubleBench>(), &DoubleBench::playAgain, this,
            [this](const LayerPath& layer, double from, double to) {
                session_.setPath(layer);
                showBench(bench<TakeBench>()->name());
                bench<TakeBench>()->armPunch(from, to);
            });
    auto* log = bench<LogBench>();
    connect(log, &LogBench::saveSheet, this, [this] {
        if (session_.isOpen()) exporter_->askSheet(bench<LogBench>()->sheetHtml());
    });
    connect(log, &LogBench::printSheet, this, &MainWindow::printSheet);
    connect(log, &LogBench::saveCsv, exporter_, &Exporter::askLog);
    connect(exporter_, &Exporter::failed, this, &MainWindow::tell);
    lookTimer_.setSingleShot(true);
    connect(&lookTimer_, &QTimer::timeout, this, [this] {
        spine_->refresh();
        refreshFindings();
    });
}

void MainWindow::refreshPage()
{
    pages_->setCurrentIndex(session_.isOpen() ? 1 : 0);
    bar_->setVisible(session_.isOpen());
    setWindowTitle(session_.isOpen() ? tr("%1 \u2013 Gristle").arg(QString::fromStdString(session_.document().name))
                                     : tr("Gristle"));
    spine_->setOpen(session_.isOpen());
    stack_->setFocus();
}

void MainWindow::showBench(const QString& name)
{
    const auto at = std::ranges::find(benches_, name, &Bench::name);
    if (at != benches_.end()) showBench(int(at - benches_.begin()));
}

void MainWindow::showBench(int index)
{
    stack_->setCurrentIndex(index);
    spine_->setCurrent(index);
    if (!benches_[std::size_t(index)]->isMonoOffered() && audition_.isMono()) audition_.setMono(false);
    refreshFindings();
    auditionTimer_.start();
}

int MainWindow::currentBench() const { return stack_->currentIndex(); }

void MainWindow::refreshFindings()
{
    if (!session_.isOpen()) return;
    Bench& bench = *benches_[std::size_t(currentBench())];
    const BenchFindings said = bench.findings();
    findings_->show(said.found, bench.remedies(), said.whenNone);
}

void MainWindow::requestAudition()
{
    if (!session_.isOpen()) return;
    AuditionRequest request = benches_[std::size_t(currentBench())]->audition();
    double from = session_.loop().fromS(), to = session_.loop().toS();
    if (const Take* take = session_.take()) {
        const double duration = take->endS();
        if (from >= duration) from = 0.0;
        to = std::min(to, duration);
    }
    if (request.slots_.empty() && audition_.isPlaying()) audition_.setPlaying(false);
    audition_.request(std::move(request), from, to);
}

void MainWindow::tell(const QString& message, const QString& remedy)
{
    constexpr qint64 kAtOnceMs = 1500; // what happens at once is read together
    constexpr int kMostLines = 4;
    QString text = remedy.isEmpty() ? message : message + ". " + remedy.left(1).toUpper() + remedy.mid(1) + ".";
    const QString before = notice_->text();
    const bool isAtOnce = noticeRow_->isVisibleTo(this) && noticed_.isValid() && noticed_.elapsed() < kAtOnceMs;
    if ((isAtOnce || act_) && !before.contains(text) && before.count('\n') + 1 < kMostLines)
        text = before + "\n" + text;
    if (!before.contains(text) || !noticeRow_->isVisibleTo(this)) notice_->setText(text);
    noticeAct_->setVisible(bool(act_));
    noticeRow_->show();
    noticed_.start();
}

void MainWindow::offer(const QString& message, const QString& remedy, const std::function<void()>& act)
{
    act_ = act;
    noticeAct_->setText(remedy);
    tell(message, {});
}

void MainWindow::hideNotice()
{
    act_ = {};
    noticeRow_->hide();
}

QString MainWindow::notice() const { return noticeRow_->isVisibleTo(this) ? notice_->text() : QString(); }

/// One that was not there to the end of its opening twice in a row is not opened a third time unasked.
void MainWindow::openSession(const QString& folder)
{
    constexpr int kMostTimes = 2;
    if (failedOpenings(folder) >= kMostTimes) {
        forgetOpening();
        return tell(tr("Gristle ended twice while it opened %1: it is not opened by itself again")
                        .arg(QFileInfo(folder).completeBaseName()),
                    tr("open it once more from the list, or look at it with gristle-cli session check"));
    }
    rememberOpening(folder);
    const auto opened = session_.open(folder);
    if (!opened) tell(QString::fromStdString(opened.error().message), QString::fromStdString(opened.error().remedy));
    QTimer::singleShot(0, this, [] { forgetOpening(); }); // its benches have looked at it by then
}

/// The demo session in the person's own folder, made where it is not there yet.
void MainWindow::openDemo()
{
    const QString folder = userFolder() + "/Night Ferry.gristle";
    if (QFileInfo::exists(folder + "/session.json")) return openPaths({folder});
    if (demoTask_.isBusy()) return;
    start_->setMakingDemo(true);
    QDir().mkpath(userFolder());
    demoTask_.run<Outcome>(
        tr("Making the demo"),
        [path = folder.toStdString()](const Progress& p) -> Outcome {
            // Under another name until it is whole.
            const std::string making = path + ".making";
            std::error_code failure;
            std::filesystem::remove_all(making, failure);
            if (const auto made = makeDemoSession(making, p); !made) return made;
            std::filesystem::rename(making, path, failure);
            if (failure) return writeError(path, failure.value());
            return Done{};
        },
        [this, folder](const Outcome& made) {
            start_->setMakingDemo(false);
            if (!made)
                return tell(QString::fromStdString(made.error().message), QString::fromStdString(made.error().remedy));
            if (!session_.isOpen()) openPaths({folder});
        });
}

void MainWindow::openPaths(const QStringList& paths)
{
    QStringList files;
    for (QString path : paths) {
        if (QFileInfo(path).fileName() == "session.json") path = QFileInfo(path).absolutePath();
        if (!QFileInfo(path).isDir()) {
            files << path;
            continue;
        }
        openSession(path);
    }
    if (!files.isEmpty()) bringIn(files);
}

void MainWindow::bringIn(const QStringList& files)
{
    if (files.isEmpty()) return;
    for (const QString& file : files) { // a bad file is named before anything is asked or made
        const auto reader = AudioReader::open(file.toStdString());
        if (!reader)
            return tell(QString::fromStdString(reader.error().message), QString::fromStdString(reader.error().remedy));
    }
    if (!session_.isOpen()) askNewSession();
    if (!session_.isOpen()) return;
    auto rows = dialogs_.importRows(guessRows(files, session_));
    if (rows) session_.importer().bringIn(std::move(*rows));
}

void MainWindow::askNewSession()
{
    QString path = dialogs_.newSession();
    if (path.isEmpty()) return;
    if (!path.endsWith(".gristle")) path += ".gristle";
    const auto made = session_.create(path, QFileInfo(path).completeBaseName());
    if (!made) tell(QString::fromStdString(made.error().message), QString::fromStdString(made.error().remedy));
}

void MainWindow::askOpenSession()
{
    const QString path = dialogs_.openSession();
    if (!path.isEmpty()) openPaths({path});
}

void MainWindow::printSheet()
{
    if (!session_.isOpen()) return;
    auto printer = std::make_shared<QPrinter>(QPrinter::HighResolution);
    auto* dialog = new QPrintDialog(printer.get(), this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, qOverload<QPrinter*>(&QPrintDialog::accepted), this, [this, printer] {
        QTextDocument document;
        document.setHtml(bench<LogBench>()->sheetHtml());
        document.print(printer.get());
    });
    dialog->open();
}

void MainWindow::goTo()
{
    std::vector<Destination> places;
    if (session_.isOpen()) {
        for (const LayerPath& path : allLayers(session_.document())) {
            const Song& s = session_.document().songs[path.song];
            const Part& p = s.parts[path.part];
            places.push_back(
                {QString::fromStdString(s.name + " \u203a " + p.name + " \u203a " + p.layers[path.layer].name),
                 [this, path] { session_.setPath(path); }});
        }
        for (std::size_t i = 0; i < benches_.size(); ++i)
            places.push_back({tr("%1 bench").arg(benches_[i]->name()), [this, i] { showBench(int(i)); }});
    }
    for (const QString& folder : recentSessions())
        places.push_back({tr("Open %1 (%2)").arg(QFileInfo(folder).completeBaseName(), folder),
                          [this, folder] { openPaths({folder}); }});
    for (QAction* action : header_->sessionMenu()->actions())
        if (!action->isSeparator() && action->isEnabled())
            places.push_back({action->text(), [action] { action->trigger(); }});
    auto* dialog = new GoToDialog(std::move(places), this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->open();
}

void MainWindow::editSong()
{
    if (!session_.song()) return;
    auto* dialog = new SongDialog(*session_.song(), dialogs_.openMidi, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(&session_, &SessionModel::closing, dialog, &QDialog::reject);
    connect(dialog, &QDialog::accepted, this, [this, dialog, index = session_.path().song] {
        if (!session_.isOpen() || index >= session_.document().songs.size()) return; // undone meanwhile
        session_.edit(tr("Song changed"), "song", [&](SessionDocument& d) { dialog->apply(d.songs[index]); });
    });
    dialog->open();
}

void MainWindow::setLoopEnd(bool start)
{
    if (!audition_.isPlaying()) return;
    const double bar = std::round(session_.grid().barAt(audition_.reading().positionS));
    start ? session_.loop().set(bar, std::max(session_.loop().toBar(), bar + 1.0))
          : session_.loop().set(std::min(session_.loop().fromBar(), bar - 1.0), bar);
}

bool MainWindow::isIdle()
{
    if (auditionTimer_.isActive() || lookTimer_.isActive()) return false;
    for (TaskRunner* t : {&demoTask_, &session_.importer().task(), &session_.keeper().task(), &session_.saveTask(),
                          &exporter_->task(), &session_.measurements().task(), &audition_.task()})
        if (t->isBusy()) return false;
    if (capture_.isPreparingToHear()) return false;
    for (Bench* b : benches_)
        if (b->isBusy()) return false;
    return true;
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event)
{
    if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event)
{
    QStringList paths;
    for (const QUrl& url : event->mimeData()->urls())
        if (url.isLocalFile()) paths << url.toLocalFile();
    event->acceptProposedAction();
    // After the drop is over: the step that asks must not hold up whom it came from.
    QMetaObject::invokeMethod(
        this, [this, paths] { openPaths(paths); }, Qt::QueuedConnection);
}

void MainWindow::restorePlace()
{
    remembersPlace_ = true;
    const WindowPlace place = windowPlace();
    wantedBench_ = place.bench;
    if (!place.geometry.isEmpty()) restoreGeometry(place.geometry);
}

/// No larger than the screen has room for, the frame counted, and all of it on the screen.
void MainWindow::fitScreen()
{
    if (!screen() || isMaximized() || isFullScreen()) return;
    const QRect room = screen()->availableGeometry(), own = frameGeometry();
    const QSize frame = own.size() - size();
    resize(size().boundedTo(room.size() - frame));
    const QSize outer = size() + frame;
    move(std::clamp(own.left(), room.left(), std::max(room.left(), room.right() + 1 - outer.width())),
         std::clamp(own.top(), room.top(), std::max(room.top(), room.bottom() + 1 - outer.height())));
}

void MainWindow::showEvent(QShowEvent* event)
{
    QMainWindow::showEvent(event);
    if (!remembersPlace_ || std::exchange(isFitted_, true)) return; // pictures and tests have a size of their own
    fitScreen();
    QTimer::singleShot(200, this, &MainWindow::fitScreen); // the frame is there by then
}

void MainWindow::closeEvent(QCloseEvent* event)
{
    if (remembersPlace_) rememberWindowPlace({saveGeometry(), benches_[std::size_t(currentBench())]->name()});
    audition_.clear();
    session_.close();
    QMainWindow::closeEvent(event);
}

void MainWindow::resizeEvent(QResizeEvent* event)
{
    QMainWindow::resizeEvent(event);
    findings_->setFixedWidth(std::clamp(width() * 29 / 128, 226, 380)); // 290 at the reference size
}

bool MainWindow::eventFilter(QObject* object, QEvent* event)
{
    if (object == notice_ && event->type() == QEvent::MouseButtonPress) hideNotice();
    if (event->type() == QEvent::KeyPress) { // Enter presses the focused button; Space is for hearing
        const auto* key = static_cast<QKeyEvent*>(event);
        auto* button = qobject_cast<QPushButton*>(object);
        if (button && button->window() == this && button->isEnabled() &&
            (key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter)) {
            if (button->menu())
                button->showMenu();
            else
                button->click();
            return true;
        }
    }
    return QMainWindow::eventFilter(object, event);
}

} // namespace gristle::app
