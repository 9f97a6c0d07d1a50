import { NavLink } from "react-router-dom";

/** Tabs are the parts of a page; the one with an empty path is the page itself. */
export function Tabs({ label, base, tabs }: { label: string; base: string; tabs: readonly (readonly [path: string, title: string])[] }) {
  return (
    <nav className="tabs" aria-label={label}>
      {tabs.map(([path, title]) => (
        <NavLink key={path} to={path ? `${base}/${path}` : base} end>
          {title}
        </NavLink>
      ))}
    </nav>
  );
}
