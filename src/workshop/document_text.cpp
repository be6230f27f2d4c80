// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/document_text.h"

#include <QFontDatabase>
#include <QRegularExpression>
#include <QScrollBar>
#include <QTextBlock>
#include <QVBoxLayout>
#include <nlohmann/json.hpp>

#include "io/json_text.h"
#include "view/look.h"

namespace ruedo {
using nlohmann::json;

DocumentText::DocumentText(Project& project, QWidget* parent) : QWidget(parent), project_(project) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(4);
    auto& c = look::colours();
    editor_ = new QPlainTextEdit;
    editor_->setFont(QFontDatabase::systemFont(QFontDatabase::FixedFont));
    editor_->setLineWrapMode(QPlainTextEdit::NoWrap);
    editor_->setTabChangesFocus(true);
    editor_->setAccessibleName("Document as text");
    editor_->setStyleSheet(QString("QPlainTextEdit{background:%1; color:%2; border:1px solid %3;}"
                                   "QPlainTextEdit:focus{border-color:%4;}")
                               .arg(c.panel.name(), c.ink.name(), c.line.name(), c.ochre.name()));
    problem_ = new look::Label;
    problem_->setWordWrap(true);
    problem_->setStyleSheet(QString("color:%1;").arg(c.ink.name()));
    problem_->setAccessibleName("Errors in the text");
    problem_->hide();
    box->addWidget(editor_, 1);
    box->addWidget(problem_);
    later_.setSingleShot(true);
    connect(&later_, &QTimer::timeout, this, [this] { take(); });
    connect(editor_, &QPlainTextEdit::textChanged, this, [this] {
        if (!writing_) later_.start(400);
    });
    connect(&project_, &Project::changed, this, [this] { show_document(); });
    show_document();
}

/// What is written there already and means the same stays as it is written.
void DocumentText::show_document() {
    auto typed = editor_->toPlainText().toStdString();
    auto now = parse_json({reinterpret_cast<const std::uint8_t*>(typed.data()), typed.size()});
    auto document = to_json(project_.document());
    if (now && *now == document) return show_marks();
    if (now)
        if (auto read = document_from_json(*now, "text"); read && *read == project_.document()) return show_marks();
    writing_ = true;
    auto cursor = editor_->textCursor().position();
    auto across = editor_->horizontalScrollBar()->value(), down = editor_->verticalScrollBar()->value();
    editor_->setPlainText(text(document.dump(2, ' ', false, json::error_handler_t::replace)));
    auto back = editor_->textCursor();
    back.setPosition(std::min(cursor, static_cast<int>(editor_->toPlainText().size())));
    editor_->setTextCursor(back);
    editor_->horizontalScrollBar()->setValue(across), editor_->verticalScrollBar()->setValue(down);
    writing_ = false;
    problem_->hide(), problem_->clear();
    wrong_line_ = 0;
    mark(pointer_);
}

/// What was typed, once it can be read; else what is wrong with it, and where.
void DocumentText::take() {
    auto typed = editor_->toPlainText().toStdString();
    auto wrong = [&](const QString& sentence, int line) {
        problem_->setText(sentence);
        problem_->show();
        wrong_line_ = line;
        show_marks();
    };
    auto read = document_from_text({reinterpret_cast<const std::uint8_t*>(typed.data()), typed.size()}, "the text");
    if (!read)
        return wrong(text(read.error().error.sentence) + " The player was not changed.",
                     static_cast<int>(read.error().place.line));
    problem_->hide(), problem_->clear();
    wrong_line_ = 0;
    mark(pointer_);
    project_.change(*read, "Text");
}

void DocumentText::mark(const QString& pointer) {
    pointer_ = pointer;
    marked_ = {};
    auto all = editor_->toPlainText();
    auto bytes = all.toUtf8();
    ByteView view(reinterpret_cast<const std::uint8_t*>(bytes.constData()), static_cast<std::size_t>(bytes.size()));
    // What is as it is by default may not be written: then what holds it is marked.
    for (auto at = pointer; !at.isEmpty() && marked_.first == 0; at = at.section('/', 0, -2))
        if (auto line = static_cast<int>(place_in_json(view, at.toStdString()).line)) {
            auto block = editor_->document()->findBlockByNumber(line - 1);
            auto indent = [](const QTextBlock& b) {
                auto words = b.text();
                return words.size() - QString(words).remove(QRegularExpression("^ +")).size();
            };
            auto last = block;
            bool opens = block.text().trimmed().endsWith('{') || block.text().trimmed().endsWith('[');
            while (opens && last.next().isValid() && !(last != block && indent(last) <= indent(block)))
                last = last.next();
            marked_ = {line, last.blockNumber() + 1};
        }
    show_marks();
    if (marked_.first > 0 && !editor_->hasFocus()) {
        QTextCursor there(editor_->document()->findBlockByNumber(marked_.first - 1));
        editor_->setTextCursor(there);
        editor_->centerCursor();
    }
}

void DocumentText::show_marks() {
    auto& c = look::colours();
    QList<QTextEdit::ExtraSelection> marks;
    auto line = [&](int number, QColor colour) {
        auto block = editor_->document()->findBlockByNumber(number - 1);
        if (!block.isValid()) return;
        QTextEdit::ExtraSelection mark;
        mark.cursor = QTextCursor(block);
        colour.setAlphaF(0.28F);
        mark.format.setBackground(colour);
        mark.format.setProperty(QTextFormat::FullWidthSelection, true);
        marks << mark;
    };
    for (int n = marked_.first; n > 0 && n <= marked_.second; ++n) line(n, c.teal);
    if (wrong_line_ > 0) line(wrong_line_, c.rust);
    editor_->setExtraSelections(marks);
}

}  // namespace ruedo
