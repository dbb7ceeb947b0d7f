// Every colour has one meaning, the same on every page. Blue against orange
// is told apart without colour vision, and nothing is told by colour alone.
import { darkTheme, useOsTheme, type GlobalTheme } from "naive-ui";
import { computed, ref } from "vue";

const system = useOsTheme();
const chosen = ref<"light" | "dark" | null>(localStorage.getItem("theme") as "light" | "dark" | null);

export function useTheme() {
  const dark = computed(() => (chosen.value ?? system.value) === "dark");
  const theme = computed<GlobalTheme | null>(() => (dark.value ? darkTheme : null));
  function toggle() {
    chosen.value = dark.value ? "light" : "dark";
    localStorage.setItem("theme", chosen.value);
  }
  return { dark, theme, toggle };
}

export interface Meaning {
  held: string;
  some: string;
  missing: string;
  excused: string;
  up: string;
  down: string;
  text: string;
  faint: string;
  line: string;
  ground: string;
  act: string;
}

/** The components' own colours, each readable on its ground. */
export function useOverrides() {
  const meaning = useMeaning();
  return computed(() => {
    const { act, faint } = meaning.value;
    const primary = { primaryColor: act, primaryColorHover: act, primaryColorPressed: act, primaryColorSuppl: act };
    return { common: { ...primary, textColor3: faint, placeholderColor: faint, borderRadius: "4px" }, Empty: { textColor: faint } };
  });
}

export function useMeaning() {
  const { dark } = useTheme();
  return computed<Meaning>(() =>
    dark.value
      ? { held: "#2f7fa3", some: "#e5c07b", missing: "#f08a24", excused: "#7d8590", up: "#4aa8d0", down: "#d9d2c5", text: "#e6e6e6", faint: "#9aa4ad", line: "#3a4149", ground: "#18181c", act: "#5fb3d6" }
      : { held: "#2b7a9b", some: "#e2b93b", missing: "#a84a00", excused: "#9aa3ab", up: "#1f6f8b", down: "#5b4636", text: "#22282d", faint: "#66727c", line: "#dfe3e6", ground: "#ffffff", act: "#1f6f8b" },
  );
}
