/** The few signs that are needed, drawn for this page. */
import type { ReactNode } from "react";

function Sign({ children }: { children: ReactNode }) {
  return (
    <svg
      width="20"
      height="20"
      viewBox="0 0 20 20"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.4"
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden="true"
    >
      {children}
    </svg>
  );
}

export const SheetSign = () => (
  <Sign>
    <path d="M3 3.5h14v13H3zM3 8h14M8 8v8.500M12.500 8v8.500" />
  </Sign>
);
export const WatchSign = () => (
  <Sign>
    <path d="M2.500 6.500h15M2.500 13.500h15M5 10h2M9 10h2M13 10h3M14.500 8.500 16 10l-1.500 1.500" />
  </Sign>
);
export const QueueSign = () => (
  <Sign>
    <path d="M3 5h7M12.500 5h4.500M3 10h3M8.500 10h5M3 15h10M15.500 15h1.500" />
  </Sign>
);
export const PresetSign = () => (
  <Sign>
    <path d="M5 3v14M10 3v14M15 3v14M3 12h4M8 6h4M13 13h4" />
  </Sign>
);
export const SettingSign = () => (
  <Sign>
    <path d="M10 1.800 17.100 5.900v8.200L10 18.200 2.900 14.100V5.900z" />
    <circle cx="10" cy="10" r="3" />
  </Sign>
);
export const FolderSign = () => (
  <Sign>
    <path d="M2.500 5h5l1.500 2h8.500v9h-15z" />
  </Sign>
);
export const ClipSign = () => (
  <Sign>
    <path d="M3 4.500h14v11H3zM6 4.500v11M14 4.500v11" />
  </Sign>
);
export const ArrowSign = () => (
  <Sign>
    <path d="M3 10h13M12 6l4 4-4 4" />
  </Sign>
);
