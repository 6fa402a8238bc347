using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class PacedJobsPackedOutput : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<bool>(
                name: "Held",
                table: "Runs",
                type: "boolean",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<bool>(
                name: "Packed",
                table: "RunOutput",
                type: "boolean",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<Guid>(
                name: "AgainOf",
                table: "Jobs",
                type: "uuid",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Pace",
                table: "Jobs",
                type: "text",
                nullable: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "Held",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Packed",
                table: "RunOutput");

            migrationBuilder.DropColumn(
                name: "AgainOf",
                table: "Jobs");

            migrationBuilder.DropColumn(
                name: "Pace",
                table: "Jobs");
        }
    }
}
