#include "thumb_walk.h"

#include <algorithm>
#include <deque>
#include <set>
#include <stdexcept>

namespace board {

using mt::Code;
using mt::Flow;
using mt::FlowInsn;

namespace {
constexpr std::size_t kMostLookedAt = 20'000;
constexpr std::size_t kDeepest = 40;
constexpr std::uint32_t kReturnCode = 0xFFFF'FFF8;  // EXC_RETURN as an address carries it (Armv7-M B1.5.8)
}  // namespace

ThumbWalk::ThumbWalk(std::shared_ptr<const Code> code, std::shared_ptr<const mt::FunctionTable> functions,
                     Etm4Encoder* encoder, std::uint64_t seed, Ran ran)
    : code_(std::move(code)),
      functions_(std::move(functions)),
      encoder_(encoder),
      ran_(std::move(ran)),
      random_(seed) {}

std::uint32_t ThumbWalk::entry_of(const std::string& function) const {
    for (std::uint32_t i = 0; i < functions_->size(); ++i)
        if ((*functions_)[i].name == function) return (*functions_)[i].entry;
    throw std::runtime_error("the image has no function " + function);
}

void ThumbWalk::thread(unsigned number, const std::string& function, std::uint64_t cycle) {
    if (threads_.size() <= number) threads_.resize(number + 1);
    threads_[number] = {entry_of(function), {}, false};
    if (begun_) return;
    begun_ = true;
    thread_ = number;
    cycle_ = cycle;
    encoder_->begin(static_cast<std::uint32_t>(code_->address(threads_[number].pc)), cycle);
}

std::uint32_t ThumbWalk::svc_ahead(std::uint32_t first) const {
    const std::uint32_t last = (*code_)[first].last;
    for (std::uint32_t s = first; s <= last; s = code_->next(s))
        if ((*code_)[s].size == 1 && (code_->bits(s) & 0xFF00) == 0xDF00) return s;
    return Code::kNowhere;
}

bool ThumbWalk::follow(Place& place, bool taken) const {
    const std::uint32_t last = (*code_)[place.pc].last;
    const Code::Slot& s = (*code_)[last];
    const std::uint32_t next = code_->next(last);
    std::uint32_t to = Code::kNowhere;
    if (!taken) {
        if ((s.flags & FlowInsn::kConditional) == 0) return false;
        to = next;
    } else {
        switch (s.flow) {
            case Flow::branch:
            case Flow::jump:
                to = s.target;
                break;
            case Flow::call:
                if (place.returns.size() >= kDeepest) return false;
                place.returns.push_back(next);
                to = s.target;
                break;
            case Flow::barrier:
                to = next;
                break;
            case Flow::ret:
                if (place.returns.empty()) return false;
                to = place.returns.back();
                place.returns.pop_back();
                break;
            default:
                return false;
        }
    }
    if (to == Code::kNowhere || (*code_)[to].flow == Flow::none) return false;
    place.pc = to;
    return true;
}

bool ThumbWalk::execute(Place& place, std::uint32_t last) {
    const std::uint32_t first = place.pc;
    std::uint32_t done = Code::kNowhere;
    for (std::uint32_t s = first; s <= last; s = code_->next(s)) {
        const std::uint64_t cost = 1 + random_() % 2;
        if (until_ != 0 && cycle_ + cost > until_) break;
        cycle_ += cost;
        ++instructions_;
        done = s;
        if (((*code_)[s].flags & FlowInsn::kSleep) != 0) {
            place.asleep = true;
            break;
        }
    }
    if (done != Code::kNowhere) {
        if (ran_) ran_(first, done);
        encoder_->ran(static_cast<std::uint32_t>(code_->address(first)),
                      static_cast<std::uint32_t>(code_->address(done)));
        place.pc = code_->next(done);
    }
    return done == last;
}

bool ThumbWalk::go(Place& place, bool taken) {
    if (place.asleep) return false;
    Place to = place;
    if (!follow(to, taken)) return false;
    const std::uint32_t last = (*code_)[place.pc].last;
    if (const std::uint32_t svc = svc_ahead(place.pc); svc != Code::kNowhere) {
        // What stands before it runs; the call itself waits for its exception.
        std::uint32_t before = place.pc;
        if (svc == place.pc) return false;
        while (code_->next(before) != svc) before = code_->next(before);
        (void)execute(place, before);
        return false;
    }
    if (!execute(place, last)) return false;
    const Flow flow = (*code_)[last].flow;
    place = to;
    encoder_->atom(taken, cycle_);
    if (taken && flow == Flow::call) encoder_->called(static_cast<std::uint32_t>(code_->address(code_->next(last))));
    if (taken && flow == Flow::ret) encoder_->target(static_cast<std::uint32_t>(code_->address(to.pc)), true);
    encoder_->stand_at(static_cast<std::uint32_t>(code_->address(place.pc)));
    return true;
}

std::optional<ThumbWalk::Choices> ThumbWalk::way(const Place& from,
                                                 const std::function<bool(const Place&)>& there) const {
    struct Node {
        Place place;
        std::size_t before;
        bool taken;
    };
    std::vector<Node> nodes{{from, 0, false}};
    std::set<std::pair<std::uint32_t, std::vector<std::uint32_t>>> seen{{from.pc, from.returns}};
    for (std::size_t i = 0; i < nodes.size() && nodes.size() < kMostLookedAt; ++i) {
        if (there(nodes[i].place)) {
            Choices choices;
            for (std::size_t n = i; n != 0; n = nodes[n].before) choices.push_back(nodes[n].taken);
            std::reverse(choices.begin(), choices.end());
            return choices;
        }
        if (svc_ahead(nodes[i].place.pc) != Code::kNowhere) continue;
        for (const bool taken : {true, false}) {
            Place next = nodes[i].place;
            if (!follow(next, taken) || next.returns.size() > from.returns.size() + 6) continue;
            if (seen.emplace(next.pc, next.returns).second) nodes.push_back({std::move(next), i, taken});
        }
    }
    return std::nullopt;
}

void ThumbWalk::walk_to(Place& place, const std::function<bool(const Place&)>& there) {
    const auto choices = way(place, there);
    if (!choices)
        throw std::runtime_error(
            "no way leads there from " + (*functions_)[functions_->at(place.pc)].name + " + " +
            std::to_string(code_->address(place.pc) - (*functions_)[functions_->at(place.pc)].address) + ", " +
            std::to_string(place.returns.size()) + " deep, in " + std::to_string(nest_.size()) + " handlers");
    for (const bool taken : *choices)
        if (!go(place, taken)) return;
}

void ThumbWalk::run(const std::string& function, std::uint64_t from, std::uint64_t to) {
    cycle_ = std::max(cycle_, from);
    until_ = to;
    Place& place = here();
    const std::uint32_t wanted = function.empty() ? functions_->nameless() : functions_->at(entry_of(function));
    while (cycle_ < to) {
        if (!function.empty() && functions_->at(place.pc) != wanted) {
            const auto choices = way(place, [&](const Place& p) { return functions_->at(p.pc) == wanted; });
            if (!choices) break;
            bool moved = true;
            for (const bool taken : *choices)
                if (!(moved = go(place, taken))) break;
            if (!moved) break;
            continue;
        }
        // By chance, but not out of the function if the other way stays in it, nor where no way leads back.
        const auto in_it = [&](const Place& p) { return functions_->at(p.pc) == wanted; };
        bool taken = random_() % 2 == 0;
        Place ahead = place;
        bool can = follow(ahead, taken);
        if (!can || (!function.empty() && !in_it(ahead))) {
            Place other = place;
            if (follow(other, !taken) && (!can || in_it(other))) {
                taken = !taken;
                ahead = other;
                can = true;
            }
        }
        const bool lost = can && !function.empty() && !in_it(ahead) && !way(ahead, in_it);
        if (!can || lost) {  // nowhere to go: it stays before that branch
            const std::uint32_t last = (*code_)[place.pc].last;
            if (place.pc == last || place.asleep || svc_ahead(place.pc) != Code::kNowhere) break;
            std::uint32_t before = place.pc;
            while (code_->next(before) != last) before = code_->next(before);
            (void)execute(place, before);
            break;
        }
        if (!go(place, taken)) break;
    }
    cycle_ = std::max(cycle_, to);
}

void ThumbWalk::stand_before(std::uint64_t address, std::uint64_t cycle) {
    const std::uint32_t slot = code_->slot_of(address);
    cycle_ = std::max(cycle_, cycle);
    Place& place = here();
    place.asleep = false;
    until_ = 0;
    const auto ahead = [&](const Place& p) { return p.pc <= slot && (*code_)[p.pc].last == (*code_)[slot].last; };
    walk_to(place, ahead);
    if (place.pc == slot || !ahead(place)) return;
    std::uint32_t before = place.pc;
    while (code_->next(before) != slot) before = code_->next(before);
    (void)execute(place, before);
}

void ThumbWalk::enter(unsigned number, const std::string& handler, std::uint64_t cycle, bool chained) {
    constexpr unsigned kSvCall = 11;
    Place& place = here();
    until_ = 0;
    if (number == kSvCall && !chained) {
        const auto at_svc = [this](const Place& p) { return svc_ahead(p.pc) != Code::kNowhere; };
        if (way(place, at_svc)) {
            place.asleep = false;
            walk_to(place, at_svc);
            const std::uint32_t svc = svc_ahead(place.pc);
            if (execute(place, svc)) place.pc = code_->next(svc);
        }
    }
    cycle_ = std::max(cycle_, cycle);
    const std::uint32_t back = chained ? kReturnCode : static_cast<std::uint32_t>(code_->address(place.pc));
    place.asleep = false;
    Place fresh;
    fresh.pc = entry_of(handler);
    encoder_->exception(number, back, static_cast<std::uint32_t>(code_->address(fresh.pc)), cycle_);
    nest_.push_back(std::move(fresh));
}

void ThumbWalk::leave(std::uint64_t cycle, bool to_exception) {
    Place& place = here();
    place.asleep = false;
    until_ = 0;
    const auto at_return = [this](const Place& p) {
        return p.returns.empty() && (*code_)[(*code_)[p.pc].last].flow == Flow::ret;
    };
    walk_to(place, at_return);
    (void)execute(place, (*code_)[place.pc].last);
    cycle_ = std::max(cycle_, cycle);
    encoder_->atom(true, cycle_);
    nest_.pop_back();
    if (to_exception) return;
    encoder_->exception_return(static_cast<std::uint32_t>(code_->address(here().pc)), cycle_);
    encoder_->stand_at(static_cast<std::uint32_t>(code_->address(here().pc)));
}

}  // namespace board
