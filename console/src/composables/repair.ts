// Asking for gaps again, from wherever they are shown.
import { useMessage } from "naive-ui";
import { ref } from "vue";
import { post, type Run } from "./api";

/** Begins a repair of gaps by their ids, and says which runs do it; `busy` until the service has taken the order. */
export function useRepair() {
  const message = useMessage();
  const busy = ref(false);
  async function repair(gaps: string[]) {
    busy.value = true;
    try {
      const runs = await post<Run[]>("/repairs", { gaps });
      message.info(`repair begun: run ${runs.map((r) => r.id).join(", ")}`);
    } catch (error) {
      message.error((error as Error).message, { duration: 8000, closable: true });
    } finally {
      busy.value = false;
    }
  }
  return { busy, repair };
}
