#include "app/models/impulse_library.h"

#include "app/models/preferences.h"
#include "core/audio/file_place.h"

#include <QCryptographicHash>
#include <QDir>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QMetaObject>

namespace gristle::app {

using namespace core;

namespace {

QString tagFile() { return userFolder() + "/impulse tags.json"; }

} // namespace

ImpulseLibrary::ImpulseLibrary(QObject* parent) : QObject(parent) {}

QString ImpulseLibrary::cacheFile() const
{
    const auto name = QCryptographicHash::hash(QDir(folder_).absolutePath().toUtf8(), QCryptographicHash::Sha1).toHex();
    return userFolder() + "/impulses/" + QString::fromLatin1(name.left(16)) + ".jsonl";
}

void ImpulseLibrary::open(const QString& folder)
{
    const bool isOther = folder != folder_;
    folder_ = folder;
    readTags();
    if (isOther) take({});
    using Cards = std::vector<ImpulseCard>;
    using Answer = std::shared_ptr<Result<Cards>>;
    read_.run<Answer>(
        tr("Looking through %1").arg(QDir(folder).dirName()),
        [this, folder, isOther, shown = cards_, cache = cacheFile().toStdString()](const Progress& p) {
            const auto show = [&](const Cards& cards) {
                QMetaObject::invokeMethod(
                    this,
                    [this, folder, shown = std::make_shared<Cards>(cards)] {
                        if (folder == folder_ && read_.isBusy() && shown->size() > cards_.size())
                            take(std::move(*shown));
                    },
                    Qt::QueuedConnection);
            };
            const Cards known = isOther ? readShelf(cache) : shown;
            if (isOther && !known.empty()) show(known);
            Cards soFar;
            const auto told = [&](const Cards& part) {
                soFar.insert(soFar.end(), part.begin(), part.end());
                if (known.empty() && !p.stopped()) show(soFar); // else what the cache knows is on the screen already
            };
            return std::make_shared<Result<Cards>>(lookThrough(folder.toStdString(), known, told, p));
        },
        [this](Answer answer) {
            if (!*answer) {
                if (answer->error().code != ErrorCode::Cancelled)
                    emit failed(QString::fromStdString(answer->error().message),
                                QString::fromStdString(answer->error().remedy));
                return emit changed();
            }
            if (**answer != cards_) take(std::move(**answer));
            QDir().mkpath(userFolder() + "/impulses");
            // A cache that cannot be written costs time only.
            keep_.run<bool>(
                tr("Keeping what was read"),
                [cards = cards_, cache = cacheFile().toStdString()](const Progress&) {
                    return bool(writeShelf(cache, cards));
                },
                [](bool) {});
            emit changed();
        });
    emit changed();
}

void ImpulseLibrary::close()
{
    read_.waitForDone();
    keep_.waitForDone();
    folder_.clear();
    take({});
}

void ImpulseLibrary::take(std::vector<ImpulseCard> cards)
{
    cards_ = std::move(cards);
    duplicates_.clear();
    for (const std::size_t i : duplicatesIn(cards_)) duplicates_.insert(i);
    emit changed();
}

std::filesystem::path ImpulseLibrary::pathOf(std::size_t card) const
{
    return std::filesystem::path(folder_.toStdString()) / cards_[card].file;
}

std::vector<std::string> ImpulseLibrary::tagsOf(std::size_t card) const
{
    const auto found = tags_.find(cards_[card].hash);
    return found == tags_.end() || cards_[card].hash.empty() ? std::vector<std::string>() : found->second;
}

void ImpulseLibrary::readTags()
{
    tags_.clear();
    const auto text = readText(tagFile().toStdString());
    if (!text) return;
    const QJsonObject all = QJsonDocument::fromJson(QByteArray::fromStdString(*text)).object();
    for (auto at = all.begin(); at != all.end(); ++at)
        for (const QJsonValue& tag : at.value().toArray())
            tags_[at.key().toStdString()].push_back(tag.toString().toStdString());
}

void ImpulseLibrary::setTags(std::size_t card, const QStringList& tags)
{
    readTags(); // another window may have given some
    auto& own = tags_[cards_[card].hash];
    own.clear();
    for (const QString& tag : tags)
        if (!tag.trimmed().isEmpty()) own.push_back(tag.trimmed().toStdString());
    QJsonObject all;
    for (const auto& [hash, words] : tags_) {
        QJsonArray list;
        for (const std::string& word : words) list.append(QString::fromStdString(word));
        if (!list.isEmpty()) all[QString::fromStdString(hash)] = list;
    }
    QDir().mkpath(userFolder());
    const auto wrote = writeTextAtomically(tagFile().toStdString(), QJsonDocument(all).toJson().toStdString());
    if (!wrote)
        emit failed(QString::fromStdString(wrote.error().message), QString::fromStdString(wrote.error().remedy));
    emit changed();
}

} // namespace gristle::app
