// SPDX-License-Identifier: Apache-2.0
// Where everything slow goes that a window wants to show: posters, plans, findings.
#pragma once
#include <QCoreApplication>
#include <QObject>
#include <QPointer>
#include <QThreadPool>
#include <cstdio>
#include <map>

#include "io/io.h"

namespace ruedo {

/// Questions are asked from one place each, and the newest from a place wins: the one before is given up. What a
/// question is about is its key; the same one is not asked again. Used on the window's thread; answers come there.
class Desk : public QObject {
  public:
    explicit Desk(QObject* parent = nullptr, int threads = 2) : QObject(parent) { pool_.setMaxThreadCount(threads); }
    /// Gives everything up and waits for it, which takes as long as giving up does.
    ~Desk() override {
        for (auto& [place, question] : asked_) question->cancel = true;
        pool_.clear();
        pool_.waitForDone();
    }

    /// `work(cancel)` runs beside the window, its reads given up with it; `done` gets what it gave.
    template <class Work, class Done>
    void ask(const std::string& place, std::string key, Work work, Done done) {
        auto& before = asked_[place];
        if (before && before->key == key && !before->cancel) return;
        if (before) before->cancel = true;
        auto question = before = std::make_shared<Question>();
        question->key = std::move(key);
        pool_.start([question, work = std::move(work), done = std::move(done)]() mutable {
            if (question->cancel) return;
            ReadScope scope(&question->cancel);
            using Answer = decltype(work(question->cancel));
            std::shared_ptr<Answer> answer;
            try {
                answer = std::make_shared<Answer>(work(question->cancel));
            } catch (const std::exception& e) {
                std::fprintf(stderr, "A fault inside, at the desk: %s.\n", e.what());
                return;
            }
            QMetaObject::invokeMethod(
                qApp,
                [question, answer, done = std::move(done)]() mutable {
                    if (!question->cancel) done(std::move(*answer));
                },
                Qt::QueuedConnection);
        });
    }
    /// Gives up what was asked from there; the same may be asked again.
    void forget(const std::string& place) {
        if (auto it = asked_.find(place); it != asked_.end()) it->second->cancel = true, asked_.erase(it);
    }

  private:
    struct Question {
        std::string key;
        std::atomic<bool> cancel = false;
    };
    std::map<std::string, std::shared_ptr<Question>> asked_;
    QThreadPool pool_;
};

}  // namespace ruedo
