import { useEffect, useState } from "react";

type Theme = "light" | "dark";

const preferred = (): Theme => (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");

const remembered = (): Theme | null => {
  const theme = localStorage.getItem("rillmark-theme");
  return theme === "light" || theme === "dark" ? theme : null;
};

/** ThemeSwitch goes between light and dark; at first the system's choice holds. */
export function ThemeSwitch() {
  const [theme, setTheme] = useState<Theme>(() => remembered() ?? preferred());
  useEffect(() => {
    document.documentElement.dataset.bsTheme = theme;
  }, [theme]);
  const other = theme === "dark" ? "light" : "dark";
  return (
    <button
      type="button"
      className="theme-switch"
      aria-label={`Change to the ${other} theme`}
      title={`Change to the ${other} theme`}
      onClick={() => {
        localStorage.setItem("rillmark-theme", other);
        setTheme(other);
      }}
    >
      <svg viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
        <circle cx="8" cy="8" r="6" className="drawn" />
        <path d="M8 2a6 6 0 0 1 0 12z" className="filled" />
      </svg>
    </button>
  );
}
