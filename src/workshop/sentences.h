// SPDX-License-Identifier: GPL-3.0-or-later
// The player told in plain sentences; the underlined words can be changed in place.
#pragma once
#include <QLineEdit>
#include <QBoxLayout>
#include <QTextBrowser>
#include <set>

#include "view/desk.h"
#include "workshop/known_clips.h"
#include "workshop/project.h"
#include "workshop/sentence_words.h"

class QPushButton;

namespace ruedo {
class DocumentText;

class Sentences : public QWidget {
  public:
    Sentences(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent = nullptr);
    /// The text as shown, for tests and for the search.
    QString plain_text() const;
    /// Opens the chooser of a word by its key ("start", "loop", "fit" ...), as pressing it does.
    void choose(const QString& key);
    /// Takes over a value for a word, as its chooser does; false when it is none, and then `problem` says why.
    bool set_value(const QString& key, const QString& value, QString* problem = nullptr);
    /// Takes a word back to its default, as its chooser offers where it was changed; false where there is none.
    bool reset(const QString& key);
    /// Why what a word says can never be; empty when nothing is wrong with it.
    QString wrong(const QString& key) const;
    QStringList keys() const;
    /// What can be chosen for a word: the values of its list, or the ends of its range.
    QStringList values(const QString& key) const;
    /// What the review turned up last; a press on a finding's words fixes it, where one can.
    const std::vector<DocumentFinding>& findings() const { return found_; }
    std::size_t reviews() const { return reviews_; }  ///< How many were told so far.
    void fix(std::size_t finding);
    /// What the workshop itself has to say of the source that plays, in front of the findings.
    struct Remark {
        bool good = false;
        QString sentence;
        std::vector<std::pair<QString, std::function<void()>>> presses;
    };
    std::function<std::optional<Remark>()> remark;
    /// What becomes of all sources for the target.
    std::function<void()> prepare;
    /// Asks for it anew.
    void describe_findings();
    const std::optional<Remark>& remarked() const { return remarked_; }
    QString findings_text() const { return findings_->toPlainText(); }
    /// Only the sentences that speak of this are shown; all of them for nothing.
    void search(const QString& words);
    QLineEdit& search_field() { return *search_; }
    /// The document as text, beside them where there is room for both; made when it is first asked for.
    void show_text(bool shown);
    DocumentText* document_text() { return as_text_; }

  protected:
    void resizeEvent(QResizeEvent*) override;

  private:
    void share_room();
    SentencePage told() const;
    QString html() const;
    QString wrong(const Word& word) const;
    void show_told();
    void point(std::size_t finding);
    void show_place(std::size_t finding);
    void press(const QString& link);
    void rebuild();
    std::string reviewed_document() const;
    void review_now();
    void look_at_contrast();
    Project& project_;
    std::shared_ptr<KnownClips> clips_;
    QLineEdit* search_;
    QPushButton* text_button_;
    DocumentText* as_text_ = nullptr;
    QBoxLayout* pair_;  ///< The sentences and the text.
    QTextBrowser* text_;
    QTextBrowser* findings_;
    std::vector<DocumentFinding> found_, unreadable_;
    /// Pictures of sources, sampled once; shared with work beside the window.
    struct Sampled {
        std::mutex mutex;
        std::map<std::string, std::vector<RgbImage>> pictures;
    };
    std::shared_ptr<Sampled> sampled_ = std::make_shared<Sampled>();
    std::optional<Remark> remarked_;
    QString told_, told_findings_;  ///< As they stand there.
    std::size_t reviews_ = 0;
    std::set<QString> unfolded_;  ///< Paragraphs that are to be seen though a control is selected.
    QTimer contrast_;
    BackgroundTasks tasks_;
};

}  // namespace ruedo
