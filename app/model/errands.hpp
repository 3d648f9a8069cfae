// Small work off the interface thread: looking at files, reading samples. What comes of it is handed back to the
// interface thread.
#pragma once
#include <QObject>
#include <condition_variable>
#include <functional>
#include <list>
#include <mutex>
#include <string>
#include <thread>
#include <unordered_map>

namespace heathmist::app {

class Errands : public QObject {
  Q_OBJECT

 public:
  /// Done on the thread of the errands; what it returns is then called on the interface thread.
  using Work = std::function<std::function<void()>()>;

  explicit Errands(QObject* parent = nullptr);
  ~Errands() override;
  /// Queues work. One of the same name that still waits is dropped for it; an empty name is never dropped.
  void run(const std::string& name, Work work);
  bool is_busy() const;

 signals:
  void failed(const QString& sentence);  ///< work that threw; what would have come of it does not come

 private:
  void loop(std::stop_token stop);
  mutable std::mutex lock_;
  std::condition_variable_any wake_;
  using Queue = std::list<std::pair<std::string, Work>>;
  Queue queue_;
  std::unordered_map<std::string, Queue::iterator> waiting_;  // by name
  bool running_ = false;
  std::jthread worker_;
};

}  // namespace heathmist::app
