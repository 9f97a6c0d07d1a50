import { Navigate, NavLink, useParams } from "react-router-dom";

/** Tabs are the parts of a page, which its address names as `tab`; the one with an empty path
 * is the page itself, and what an address names that is none of them. */
export function Tabs({ label, base, tabs }: { label: string; base: string; tabs: readonly (readonly [path: string, title: string])[] }) {
  const { tab = "" } = useParams();
  return (
    <nav className="tabs" aria-label={label}>
      {!tabs.some(([path]) => path === tab) && <Navigate to={base} replace />}
      {tabs.map(([path, title]) => (
        <NavLink key={path} to={path ? `${base}/${path}` : base} end>
          {title}
        </NavLink>
      ))}
    </nav>
  );
}
