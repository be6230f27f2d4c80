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
class BackgroundTasks : public QObject {
  public:
    /// One question among those under way; what its work is given.
    class Question : public std::enable_shared_from_this<Question> {
      public:
        operator const std::atomic<bool>&() const { return cancel_; }
        bool given_up() const { return cancel_; }
        /// From the work: has `f` called on the window's thread, unless the question is given up by then.
        template <class F>
        void post(F f) const {
            QMetaObject::invokeMethod(
                qApp,
                [question = shared_from_this(), f = std::move(f)]() mutable {
                    if (!question->cancel_) f();
                },
                Qt::QueuedConnection);
        }

      private:
        friend class BackgroundTasks;
        std::string key_;
        std::atomic<bool> cancel_ = false;
    };

    explicit BackgroundTasks(QObject* parent = nullptr, int threads = 2,
                             QThread::Priority priority = QThread::InheritPriority)
        : QObject(parent) {
        pool_.setMaxThreadCount(threads);
        pool_.setThreadPriority(priority);
    }
    /// Gives everything up and waits for it, which takes as long as giving up does.
    ~BackgroundTasks() override {
        forget_all();
        pool_.waitForDone();
    }

    /// `work(question)` runs beside the window, its reads given up with it; `done` gets what it gave.
    template <class Work, class Done>
    void ask(const std::string& place, std::string key, Work work, Done done) {
        auto& before = asked_[place];
        if (before && before->key_ == key && !before->cancel_) return;
        if (before) before->cancel_ = true;
        auto question = before = std::make_shared<Question>();
        question->key_ = std::move(key);
        pool_.start([question, work = std::move(work), done = std::move(done)]() mutable {
            if (question->cancel_) return;
            ReadScope scope(&question->cancel_);
            using Answer = decltype(work(*question));
            std::shared_ptr<Answer> answer;
            try {
                answer = std::make_shared<Answer>(work(*question));
            } catch (const std::exception& e) {
                std::fprintf(stderr, "A fault inside, at the desk: %s.\n", e.what());
                return;
            }
            question->post([answer, done = std::move(done)]() mutable { done(std::move(*answer)); });
        });
    }
    /// Gives up what was asked from there; the same may be asked again.
    void forget(const std::string& place) {
        if (auto it = asked_.find(place); it != asked_.end()) it->second->cancel_ = true, asked_.erase(it);
    }
    void forget_all() {
        for (auto& [place, question] : asked_) question->cancel_ = true;
        asked_.clear();
        pool_.clear();
    }

  private:
    std::map<std::string, std::shared_ptr<Question>> asked_;
    QThreadPool pool_;
};

}  // namespace ruedo
