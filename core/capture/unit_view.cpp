#include "capture/unit_view.h"

#include <chrono>

#include "control/debug_server.h"
#include "control/units/registers.h"
#include "control/units/target_memory.h"

namespace mt {

Result<std::vector<UnitView>> view_units(const Recipe& recipe, const TargetFile& target,
                                         const std::vector<std::shared_ptr<const Image>>& images, Progress* progress) {
    using Steady = std::chrono::steady_clock;
    std::vector<UnitView> all;
    for (const Recipe::Connect& c : recipe.connects) {
        if (c.debug.empty()) continue;
        std::size_t index = 0;
        while (index < target.cores.size() && target.cores[index].name != c.core) ++index;
        if (index == target.cores.size())
            return failure("the target file has no core '" + c.core + "'", recipe.path + ":" + std::to_string(c.line),
                           "name one that it has");
        UnitView view;
        view.units.core = c.core;
        const auto began = Steady::now();
        auto server = DebugServer::connect(c.debug, std::chrono::milliseconds(recipe.patience_ms), c.thread);
        if (!server) {
            view.unreadable = server.error();
            all.push_back(std::move(view));
            continue;
        }
        ServerMemory target_memory(**server);
        NotedMemory memory(target_memory);
        auto units = discover_units(memory, target.cores[index], progress);
        if (!units) {
            view.unreadable = units.error();
        } else {
            view.units = std::move(*units);
            if (const TraceWish* wish = wish_for(recipe, c.core)) {
                const Image* image = index < images.size() ? images[index].get() : nullptr;
                auto plan = plan_trace(*wish, view.units, memory, target, image);
                if (plan)
                    view.plan = std::move(*plan);
                else
                    view.refused = plan.error();
                if (const TracePlan wake = plan_wake(view.units, memory, target); !plan && !wake.steps.empty())
                    view.units.notes.push_back("a recording first writes " + wake.steps.front().reg + " of the " +
                                               wake.steps.front().unit + " (" + wake.steps.front().why +
                                               "), looks again, and plans then");
            }
        }
        if (target.cores[index].isa.rfind("arm", 0) == 0) (void)memory.read(demcr::kAddress);
        view.words = memory.words();
        if (!(*server)->running()) view.halted_s = std::chrono::duration<double>(Steady::now() - began).count();
        (*server)->leave(!(*server)->stood_still());
        if (progress != nullptr && progress->cancelled()) return failure("looking at the trace units was cancelled");
        all.push_back(std::move(view));
    }
    if (all.empty())
        return failure("the recipe connects to no debug server", recipe.path,
                       "add debug = \"HOST:PORT\" to a [[connect]]");
    return all;
}

}  // namespace mt
