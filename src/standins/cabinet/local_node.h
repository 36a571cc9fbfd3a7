#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <vector>

namespace cruscotto {

/// What a made character device answers in the kernel's place. One thread.
class NodeTalk {
public:
    struct Answer {
        int result = 0;          ///< 0 or more, or an errno less than 0
        bool handsOver = false;  ///< a descriptor of its own comes with it, which is a holder too
    };
    virtual ~NodeTalk() = default;
    /// Somebody opens it: 0, or the errno of why not.
    virtual int open(int holder) = 0;
    /// ioctl(2): `argument` is what the request says it carries, to be answered in place.
    virtual Answer control(int holder, std::uint64_t request, std::string& argument) = 0;
    /// The answer before gave this one out.
    virtual void handedOver(int /*by*/, int /*holder*/) {}
    virtual void closed(int holder) = 0;
    /// It takes requests and says nothing.
    [[nodiscard]] virtual bool mute() const { return false; }
};

/// A character device that is none: a local socket (SOCK_SEQPACKET) at a path, on which somebody asks what he would
/// ask of the kernel. Confined to one thread, which calls serve() often.
class LocalNode {
public:
    /// Listens at once; false from there() where that fails.
    LocalNode(std::string path, NodeTalk& talk);
    ~LocalNode();
    LocalNode(const LocalNode&) = delete;
    LocalNode& operator=(const LocalNode&) = delete;
    [[nodiscard]] bool there() const { return listener_ >= 0; }
    void serve();
    /// What reading the holder's descriptor gives. False if nobody takes it.
    static bool send(int holder, const void* bytes, std::size_t size);

private:
    void ask(int holder);
    void drop(int holder);

    const std::string path_;
    NodeTalk& talk_;
    int listener_ = -1;
    std::vector<int> holders_;
};

}  // namespace cruscotto
