#pragma once

#include "app/tasks/task_runner.h"
#include "core/impulse/impulse_shelf.h"

#include <QObject>
#include <map>
#include <set>

namespace gristle::app {

/// The impulses of one folder: read in the background, kept in a cache of the person's own, and the tags that this
/// person has given to contents, wherever they lie. GUI thread.
class ImpulseLibrary : public QObject {
    Q_OBJECT
public:
    explicit ImpulseLibrary(QObject* parent = nullptr);
    /// Shows what the cache knows at once, then what has changed.
    void open(const QString& folder);
    const QString& folder() const { return folder_; }
    void close();
    void lookAgain() { open(folder_); }

    const std::vector<core::ImpulseCard>& cards() const { return cards_; }
    bool isDuplicate(std::size_t card) const { return duplicates_.contains(card); }
    std::size_t duplicates() const { return duplicates_.size(); }
    bool isReading() const { return read_.isBusy(); }
    bool isBusy() const { return read_.isBusy() || keep_.isBusy(); }
    std::filesystem::path pathOf(std::size_t card) const;

    std::vector<std::string> tagsOf(std::size_t card) const;
    void setTags(std::size_t card, const QStringList& tags); ///< kept with the content; failed() where it cannot

signals:
    void changed(); ///< cards or tags
    void failed(const QString& message, const QString& remedy);

private:
    void take(std::vector<core::ImpulseCard> cards);
    QString cacheFile() const;
    void readTags();

    QString folder_;
    std::vector<core::ImpulseCard> cards_;
    std::set<std::size_t> duplicates_;
    std::map<std::string, std::vector<std::string>> tags_; ///< by content
    TaskRunner read_, keep_;
};

} // namespace gristle::app
